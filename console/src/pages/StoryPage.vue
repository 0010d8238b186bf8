<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute } from 'vue-router'

import HoldFields from '../parts/HoldFields.vue'
import LogTable from '../parts/LogTable.vue'
import RowTable from '../parts/RowTable.vue'
import StateMark from '../parts/StateMark.vue'
import TroubleNote from '../parts/TroubleNote.vue'
import VersionDifferences from '../parts/VersionDifferences.vue'
import WhyPanel from '../parts/WhyPanel.vue'
import { api, take, type Schemas } from '../use/api'
import { useEvent } from '../use/events'
import { bytes, moment } from '../use/format'
import { useLoading } from '../use/loading'

const props = defineProps<{ input: string }>()
const route = useRoute()
const path = computed(() => String(route.query.path ?? ''))

const story = ref<Schemas['Story']>()
const { trouble, reload } = useLoading(async () => {
  story.value = await take(api.GET('/api/v1/inputs/{input}/story', { params: { path: { input: props.input }, query: { path: path.value } } }))
})
watch([() => props.input, path], reload, { immediate: true })
useEvent<{ input: string }>('roster', (e) => {
  if (e.input === props.input) void reload()
})
</script>

<template>
  <trouble-note :trouble="trouble" />
  <template v-if="story">
    <h1 class="path">{{ story.file.path.split('/').at(-1) }}</h1>
    <p class="quiet path">
      <router-link :to="`/inputs/${input}`">{{ input }}</router-link> · {{ story.file.path }}
    </p>
    <p class="my-2">
      <state-mark :of="story.file.verdict" /> <state-mark :of="story.file.state" class="ml-2" />
      <template v-if="story.file.id"> · {{ bytes(story.file.size) }} · modified {{ moment(story.file.modified) }}</template>
      <template v-for="(value, name) in story.file.captures" :key="name"> · {{ name }} is {{ value }}</template>
    </p>
    <template v-if="story.file.id">
      <h2>Why</h2>
      <why-panel :key="story.file.sentence" :input="input" :path="story.file.path" />
      <hold-fields :input="input" :file="story.file" />
    </template>
    <row-table v-if="story.file.id && story.file.verdict === 'picked'" :key="story.file.size + story.file.modified" :input="input" :path="story.file.path" />
    <version-differences v-if="story.fed.length" :key="story.file.size + story.file.modified" :input="input" :path="story.file.path" />
    <h2>What it fed</h2>
    <p v-if="story.fed.length === 0" class="quiet">No delivered refresh yet.</p>
    <ul v-else>
      <li v-for="f in story.fed" :key="f.digest + f.first">
        <router-link :to="`/receipts/${f.first}`">receipt {{ f.first }}</router-link>
        <template v-if="f.last !== f.first"> to <router-link :to="`/receipts/${f.last}`">{{ f.last }}</router-link></template>
        <span class="digest quiet ml-2">{{ f.digest.slice(0, 16) }}</span>
      </li>
    </ul>
    <h2>What became of it</h2>
    <log-table :entries="story.log" :input="input" />
  </template>
</template>
