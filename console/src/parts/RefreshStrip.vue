<script setup lang="ts">
import { mdiRefresh } from '@mdi/js'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, take, type Refresh, type Schemas, type Trouble } from '../use/api'
import { useEvent } from '../use/events'
import { count, moment, number, word } from '../use/format'
import RunningRefresh from './RunningRefresh.vue'
import StateMark from './StateMark.vue'
import TroubleNote from './TroubleNote.vue'

const props = defineProps<{ input: string; parameters?: Schemas['Parameter'][]; last: Refresh | undefined }>()

const set = ref<Record<string, string>>({})

const asked = ref<Refresh>()
const trouble = ref<Trouble>()

useEvent<Refresh>('refresh', (r) => {
  if (r.input === props.input && !r.report && !r.request?.rehearse && (!asked.value || r.id >= asked.value.id)) asked.value = r
})

const refresh = computed(() => {
  const { last } = props
  if (asked.value && (!last || asked.value.id >= last.id)) return asked.value
  return last
})
const underway = computed(() => refresh.value?.outcome === 'waiting' || refresh.value?.outcome === 'running')
const router = useRouter()

async function ask(rehearse = false) {
  trouble.value = undefined
  try {
    const r = await take(
      api.POST('/api/v1/inputs/{input}/refreshes', {
        params: { path: { input: props.input } },
        body: { rehearse, set: Object.fromEntries(Object.entries(set.value).filter(([, value]) => value !== '')) },
      }),
    )
    if (rehearse) void router.push(`/refreshes/${r.id}`)
    else if (!asked.value || asked.value.id < r.id) asked.value = r
  } catch (e) {
    trouble.value = e as Trouble
  }
}

const goOn = computed(() => {
  const r = refresh.value
  const files = r?.stopped_by.length ?? 0
  const without = r?.asks?.every((a) => ['broken', 'missing_column', 'in_doubt', 'unknown', 'arriving'].includes(a))
  if (without && files) return `Go on without ${files === 1 ? 'the file' : `the ${number(files)} files`}`
  return `Go on all the same (${(r?.asks ?? []).map(word).join(', ')})`
})

async function answer(go: boolean) {
  const id = refresh.value?.id
  if (!id) return
  trouble.value = undefined
  try {
    asked.value = await take(api.PUT('/api/v1/refreshes/{refresh}/answer', { params: { path: { refresh: id } }, body: { go_on: go } }))
  } catch (e) {
    trouble.value = e as Trouble
  }
}
</script>

<template>
  <section class="strip" aria-label="Refresh">
    <v-btn color="primary" :prepend-icon="mdiRefresh" :disabled="underway" @click="ask()">Refresh</v-btn>
    <v-btn variant="tonal" :disabled="underway" @click="ask(true)">Rehearse</v-btn>
    <label v-for="p in parameters" :key="p.name" class="quiet">{{ p.name }} <input v-model="set[p.name]" :placeholder="p.value" /></label>
    <running-refresh v-if="underway && refresh" :refresh="refresh" />
    <div v-else-if="refresh" class="grow">
      <state-mark :of="refresh.outcome" /> <span class="quiet ml-1">{{ moment(refresh.ended) }}</span>
      <template v-if="refresh.receipt">
        · {{ count(refresh.rows, 'row') }}, {{ count(refresh.files, 'file') }} read ·
        <router-link :to="`/receipts/${refresh.receipt}`">receipt {{ refresh.receipt }}</router-link>
      </template>
    </div>
    <div v-else class="quiet">Not refreshed yet.</div>
  </section>
  <trouble-note :trouble="trouble" />
  <v-alert v-if="!underway && refresh?.problem" type="error" class="my-3" :title="refresh.problem">
    <ul v-if="refresh.stopped_by.length > 1">
      <li v-for="f in refresh.stopped_by" :key="f.path">{{ f.path }}: {{ f.finding.sentence }}</li>
    </ul>
    <div v-if="refresh.outcome === 'asking'" class="my-2">
      <v-btn size="small" variant="flat" @click="answer(true)">{{ goOn }}</v-btn>
      <v-btn size="small" variant="text" @click="answer(false)">Stop</v-btn>
    </div>
    What would let it pass: {{ refresh.next }}
  </v-alert>
</template>

<style scoped>
.strip {
  display: flex;
  align-items: center;
  gap: 16px;
  margin: 16px 0;
  flex-wrap: wrap;
}

.grow {
  flex: 1;
  min-width: 240px;
}
</style>
