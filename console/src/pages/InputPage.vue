<script setup lang="ts">
import { mdiMagnify } from '@mdi/js'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import FindingList from '../parts/FindingList.vue'
import RefreshStrip from '../parts/RefreshStrip.vue'
import StateMark from '../parts/StateMark.vue'
import TroubleNote from '../parts/TroubleNote.vue'
import WhyPanel from '../parts/WhyPanel.vue'
import { api, take, type File, type Input, type Schemas } from '../use/api'
import { useEvent } from '../use/events'
import { bytes, count, moment, number, word } from '../use/format'
import { useLoading } from '../use/loading'

const props = defineProps<{ input: string }>()
const route = useRoute()
const router = useRouter()

const shown = ref<Input>()
const files = ref<File[]>([])
const next = ref<string>()
const opened = ref<number>()

// What is shown is kept in the address.
const filter = computed(() => ({
  verdict: route.query.verdict as Schemas['Verdict'] | undefined,
  state: route.query.state as Schemas['State'] | undefined,
  q: route.query.q as string | undefined,
  cursor: route.query.cursor as string | undefined,
}))
const search = ref(filter.value.q ?? '')

const { trouble, reload } = useLoading(async () => {
  const path = { input: props.input }
  const [one, page] = await Promise.all([
    take(api.GET('/api/v1/inputs/{input}', { params: { path } })),
    take(api.GET('/api/v1/inputs/{input}/files', { params: { path, query: { ...filter.value, limit: 50 } } })),
  ])
  shown.value = one
  files.value = page.items
  next.value = page.next
})

watch([() => props.input, filter], reload, { immediate: true })
const mine = (e: { input: string }) => {
  if (e.input === props.input) void reload()
}
useEvent('roster', mine)
useEvent<{ input: string; outcome: string }>('refresh', (e) => {
  if (e.outcome !== 'running') mine(e)
})
useEvent('reset', reload)
useEvent<{ place: string; reachable: boolean }>('look', (e) => {
  if (e.place === shown.value?.place && e.reachable !== shown.value.reachable) void reload()
})

function show(change: Partial<typeof filter.value>) {
  opened.value = undefined
  void router.push({ query: { ...route.query, cursor: undefined, ...change } })
}

let typing: ReturnType<typeof setTimeout>
watch(search, (q) => {
  clearTimeout(typing)
  typing = setTimeout(() => show({ q: q || undefined }), 250)
})

const tabs = computed(() => {
  const c = shown.value?.counts
  if (!c) return []
  const verdicts = [
    { label: 'all files', n: c.files, verdict: undefined, state: undefined },
    { label: 'picked', n: c.picked, verdict: 'picked', state: undefined },
    { label: 'left out', n: c.left_out, verdict: 'left_out', state: undefined },
    { label: 'held back', n: c.held_back, verdict: 'held_back', state: undefined },
  ]
  const states = (['new', 'changed', 'removed', 'broken', 'unknown', 'same'] as const).map((state) => ({
    label: state,
    n: c.by_state[state] ?? 0,
    verdict: undefined,
    state,
  }))
  const chosen = (t: { verdict?: string; state?: string }) => t.verdict === filter.value.verdict && t.state === filter.value.state
  return [...verdicts, ...states].filter((t) => t.n > 0 || t.label === 'all files' || chosen(t)).map((t) => ({ ...t, chosen: chosen(t) }))
})

function parts(path: string) {
  const cut = path.lastIndexOf('/') + 1
  return { folder: path.slice(0, cut), name: path.slice(cut) }
}
</script>

<template>
  <trouble-note :trouble="trouble" />
  <template v-if="shown">
    <h1>{{ shown.title }}</h1>
    <p class="quiet">
      {{ shown.name }} · {{ shown.place }}<template v-if="shown.folder"> / {{ shown.folder }}</template> · definition version {{ shown.version }} ·
      delivers {{ shown.deliveries.length ? shown.deliveries.join(', ') : 'nothing' }}
    </p>
    <v-alert v-if="!shown.reachable" type="warning" class="my-3" :title="`${shown.place} cannot be reached: ${shown.why}`">
      Its files are unknown, not removed. They are looked for again every few seconds.
    </v-alert>

    <refresh-strip :input="shown.name" :last="shown.last_refresh" />

    <div class="filters">
      <div class="tabs" role="group" aria-label="Show">
        <button v-for="t in tabs" :key="t.label" type="button" :aria-pressed="t.chosen" @click="show({ verdict: t.verdict as never, state: t.state })">
          {{ t.label }} <b>{{ number(t.n) }}</b>
        </button>
      </div>
      <v-text-field v-model="search" class="search" label="Path contains" :prepend-inner-icon="mdiMagnify" clearable />
    </div>

    <div class="sheet">
      <table class="rows">
        <thead>
          <tr>
            <th>Verdict</th>
            <th>State</th>
            <th>File</th>
            <th class="number">Size</th>
            <th>Modified</th>
            <th>Reason</th>
          </tr>
        </thead>
        <tbody>
          <template v-for="f in files" :key="f.id">
            <tr>
              <td data-label="Verdict"><state-mark :of="f.verdict" /></td>
              <td data-label="State"><state-mark :of="f.state" /></td>
              <td data-label="File" class="path">
                <button type="button" class="file" :aria-expanded="opened === f.id" @click="opened = opened === f.id ? undefined : f.id">
                  <span class="quiet">{{ parts(f.path).folder }}</span><wbr />{{ parts(f.path).name }}
                </button>
              </td>
              <td data-label="Size" class="number">{{ bytes(f.size) }}</td>
              <td data-label="Modified" class="when" :title="f.modified">{{ moment(f.modified) }}</td>
              <td data-label="Reason">
                <div>
                  <span :title="f.rule">{{ f.reason === 'pattern_matches' ? word(f.reason) : f.sentence }}</span>
                  <finding-list :findings="f.findings" />
                </div>
              </td>
            </tr>
            <tr v-if="opened === f.id">
              <td colspan="6"><why-panel :input="shown.name" :path="f.path" /></td>
            </tr>
          </template>
          <tr v-if="files.length === 0">
            <td colspan="6" class="quiet">No file is shown. {{ shown.counts.files ? 'Choose another filter above.' : `There are no files below ${shown.folder || 'the place'}.` }}</td>
          </tr>
        </tbody>
      </table>
    </div>
    <nav class="pages" aria-label="Pages">
      <v-btn v-if="filter.cursor" variant="text" @click="show({ cursor: undefined })">First page</v-btn>
      <v-btn v-if="filter.cursor" variant="text" @click="router.back()">Back</v-btn>
      <v-btn v-if="next" variant="text" @click="show({ cursor: next })">Next {{ count(50, 'file') }}</v-btn>
    </nav>
  </template>
</template>

<style scoped>
.filters {
  display: flex;
  gap: 12px;
  align-items: center;
  margin-bottom: 10px;
  flex-wrap: wrap;
}

.tabs {
  display: flex;
  flex-wrap: wrap;
  flex: 1;
}

.tabs button {
  padding: 4px 12px;
  border: 1px solid rgb(var(--v-theme-surface-variant));
  margin-right: -1px;
  margin-bottom: -1px;
  background: rgb(var(--v-theme-surface));
}

.tabs button[aria-pressed='true'] {
  background: rgb(var(--v-theme-primary));
  color: rgb(var(--v-theme-on-primary));
}

.search {
  flex: 0 1 260px;
  min-width: 200px;
}

.file {
  text-align: left;
  overflow-wrap: anywhere;
}

.file:hover {
  text-decoration: underline;
}

.pages {
  display: flex;
  justify-content: flex-end;
  margin-top: 8px;
}

@media (max-width: 640px) {
  .tabs,
  .search {
    flex: 1 1 100%;
  }
}
</style>
