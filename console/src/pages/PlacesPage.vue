<script setup lang="ts">
import { onMounted, ref } from 'vue'

import StateMark from '../parts/StateMark.vue'
import TroubleNote from '../parts/TroubleNote.vue'
import { api, take, type Schemas, type Trouble } from '../use/api'
import { useEvent } from '../use/events'
import { count, moment, number, span } from '../use/format'
import { useLoading } from '../use/loading'

const places = ref<Schemas['Place'][]>([])
const busy = ref('')
const failed = ref<Trouble>()
const { trouble, loaded, reload } = useLoading(async () => {
  places.value = (await take(api.GET('/api/v1/places'))).items
})
onMounted(reload)
for (const name of ['look', 'roster', 'reset'] as const) useEvent(name, reload)

async function look(place: string) {
  busy.value = place
  failed.value = undefined
  try {
    await take(api.POST('/api/v1/places/{place}/looks', { params: { path: { place } } }))
    await reload()
  } catch (e) {
    failed.value = e as Trouble
  } finally {
    busy.value = ''
  }
}
</script>

<template>
  <h1>Places</h1>
  <trouble-note :trouble="trouble ?? failed" />
  <p v-if="loaded && places.length === 0" class="quiet my-4">There is no place yet. Add one with <code>jorvex place add NAME DIRECTORY</code>.</p>
  <section v-for="p in places" :key="p.name" class="sheet place">
    <div class="head">
      <h2>{{ p.name }}</h2>
      <state-mark :of="p.reachable ? 'reachable' : 'unreachable'" />
      <span class="path quiet">{{ p.directory }}</span>
      <v-btn size="small" variant="tonal" :loading="busy === p.name" @click="look(p.name)">Look now</v-btn>
    </div>
    <p v-if="!p.reachable" class="text-error">Since {{ moment(p.since) }}: {{ p.why }}. Its files are unknown, not removed.</p>
    <p>
      Watched {{ p.events ? `by looks every ${span(p.every_seconds)}: ${p.events}` : `by events, and a look every ${span(p.every_seconds)}` }}; a file is settled once it is left
      alone for {{ span(p.settle_seconds) }}.
      <template v-if="p.last_look">
        Last look {{ moment(p.last_look.ended) }}: {{ count(p.last_look.files, 'file') }} in {{ count(p.last_look.folders, 'folder') }}.
      </template>
      <template v-if="p.arriving"> {{ count(p.arriving, 'file') }} arriving.</template>
      <template v-if="p.missing"> {{ count(p.missing, 'file') }} not there at the last look; another decides.</template>
    </p>
    <details v-if="p.last_look?.skipped.length">
      <summary>{{ number(p.last_look.skipped.length) }} skipped</summary>
      <ul>
        <li v-for="s in p.last_look.skipped" :key="s.path" class="path">{{ s.path }}: {{ s.why }}</li>
      </ul>
    </details>
  </section>
</template>

<style scoped>
.place {
  margin-top: 16px;
  padding: 12px 16px;
}

.head {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 16px;
  align-items: center;
  margin-bottom: 4px;
}

.head h2 {
  margin: 0;
}

.head .v-btn {
  margin-left: auto;
}
</style>
