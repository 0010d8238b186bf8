<script setup lang="ts">
import { mdiMagnify } from '@mdi/js'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import HoldFields from '../parts/HoldFields.vue'
import FindingList from '../parts/FindingList.vue'
import RefreshStrip from '../parts/RefreshStrip.vue'
import SetNotes from '../parts/SetNotes.vue'
import StateMark from '../parts/StateMark.vue'
import TroubleNote from '../parts/TroubleNote.vue'
import WhyPanel from '../parts/WhyPanel.vue'
import { api, take, type File, type Input, type Schemas } from '../use/api'
import { useEvent } from '../use/events'
import { bytes, count, moment, number, whyLeftOut, word } from '../use/format'
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
  reason: route.query.reason as string | undefined,
  near: route.query.near === 'true' || undefined,
  held: route.query.held === 'true' || undefined,
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
  const query = { ...route.query, cursor: undefined, ...change }
  void router.push({ query: { ...query, near: query.near ? 'true' : undefined, held: query.held ? 'true' : undefined } })
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
    { label: 'all files', n: c.files },
    { label: 'picked', n: c.picked, verdict: 'picked' },
    { label: 'left out', n: c.left_out, verdict: 'left_out' },
    { label: 'held back', n: c.held_back, verdict: 'held_back' },
    { label: 'near misses', n: c.near, near: true as const },
    { label: 'holds', n: c.held, held: true as const },
  ]
  const states = (['new', 'changed', 'moved', 'returned', 'removed', 'broken', 'arriving', 'in_doubt', 'unknown', 'same'] as const).map((state) => ({ label: word(state), n: c.by_state[state] ?? 0, state }))
  type Tab = { label: string; n: number; verdict?: string; state?: string; near?: true; held?: true }
  const f = filter.value
  const chosen = (t: Tab) => !f.reason && t.verdict === f.verdict && t.state === f.state && t.near === f.near && t.held === f.held
  return ([...verdicts, ...states] as Tab[]).filter((t) => t.n > 0 || t.label === 'all files' || chosen(t)).map((t) => ({ ...t, chosen: chosen(t) }))
})

const reasons = computed(() =>
  Object.entries(shown.value?.counts.by_reason ?? {})
    .sort((a, b) => b[1] - a[1])
    .map(([reason, n]) => ({ reason, n })),
)

const none = { verdict: undefined, state: undefined, reason: undefined, near: undefined, held: undefined }

function listed(l: Schemas['Listed']) {
  return [l.sheet && `sheet ${l.sheet}`, l.to_sheet && `to ${l.to_sheet}`, l.to_table && `to table ${l.to_table}`, l.to_row && `from row ${l.to_row}`]
    .filter(Boolean)
    .join(', ')
}

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
      delivers {{ shown.deliveries.length ? shown.deliveries.join(', ') : 'nothing' }} · <router-link :to="`/inputs/${shown.name}/pick`">choose files</router-link> ·
      <router-link :to="`/inputs/${shown.name}/read`">read files</router-link> ·
      <router-link :to="`/inputs/${shown.name}/refreshing`">gate and schedule</router-link> ·
      <template v-if="shown.last_receipt">
        <router-link :to="`/inputs/${shown.name}/table`">rows</router-link> · <router-link :to="`/inputs/${shown.name}/summary`">summary</router-link> ·
      </template>
      <router-link :to="{ path: '/refreshes', query: { input: shown.name } }">refreshes</router-link> ·
      <router-link :to="`/inputs/${shown.name}/versions`">versions</router-link> · <router-link :to="`/inputs/${shown.name}/log`">changes</router-link>
      <template v-if="shown.counts.coverage"> · <router-link :to="`/inputs/${shown.name}/coverage`">coverage</router-link></template>
    </p>
    <v-alert v-if="!shown.reachable" type="warning" class="my-3" :title="`${shown.place} cannot be reached: ${shown.why}`">
      Its files are unknown, not removed. They are looked for again every few seconds.
    </v-alert>

    <p v-if="shown.refreshed_when?.length || shown.next_refresh" class="quiet">
      Refreshed {{ shown.refreshed_when?.length ? shown.refreshed_when.join('; ') : 'with a report' }}<template v-if="shown.next_refresh">, next <span :title="shown.next_refresh">{{ moment(shown.next_refresh) }}</span></template>.
    </p>
    <refresh-strip :input="shown.name" :parameters="shown.parameters" :last="shown.last_refresh" />
    <set-notes :findings="shown.findings" />
    <ul v-if="shown.cures.length" class="strip" aria-label="Near misses">
      <li v-for="c in shown.cures.slice(0, 5)" :key="c.kind + c.pattern + c.says">
        <span><b>Nearly picked</b>, {{ word(c.kind) }}: {{ c.says }}</span>
        <router-link v-if="c.pattern" :to="{ path: `/inputs/${shown.name}/pick`, query: { add: c.pattern } }">take in {{ count(c.files, 'file') }}</router-link>
        <button type="button" class="link" @click="show({ ...none, q: c.path })">look</button>
      </li>
      <li v-if="shown.cures.length > 5"><button type="button" class="link" @click="show({ ...none, near: true })">and {{ shown.cures.length - 5 }} more</button></li>
    </ul>

    <div class="filters">
      <div class="tabs" role="group" aria-label="Show">
        <button
          v-for="t in tabs"
          :key="t.label"
          type="button"
          :aria-pressed="t.chosen"
          @click="show({ ...none, verdict: t.verdict as never, state: t.state as never, near: t.near, held: t.held })"
        >
          {{ t.label }} <b>{{ number(t.n) }}</b>
        </button>
      </div>
      <v-text-field v-model="search" class="search" label="Path contains" :prepend-inner-icon="mdiMagnify" clearable />
    </div>

    <p v-if="reasons.length > 1" class="reasons" aria-label="Counts by reason">
      <span v-for="r in reasons" :key="r.reason">
        <button type="button" class="link" :aria-pressed="filter.reason === r.reason" @click="show({ ...none, reason: filter.reason === r.reason ? undefined : r.reason })">
          {{ whyLeftOut(r.reason) }}</button>&nbsp;<b>{{ number(r.n) }}</b>
      </span>
    </p>

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
                  <div v-for="(l, k) in f.listed" :key="k" class="quiet">{{ listed(l) }}</div>
                  <div v-if="f.hold && !f.reason.startsWith('held_')" class="text-warning">held {{ f.hold.in ? 'in' : 'out' }} by {{ f.hold.by }}</div>
                  <finding-list :findings="f.findings" />
                </div>
              </td>
            </tr>
            <tr v-if="opened === f.id">
              <td colspan="6">
                <why-panel :key="f.sentence" :input="shown.name" :path="f.path" />
                <hold-fields :input="shown.name" :file="f" />
                <router-link :to="{ path: `/inputs/${shown.name}/story`, query: { path: f.path } }">its story</router-link>
              </td>
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

.filters .tabs {
  flex: 1;
}

.reasons {
  margin: 6px 0 10px;
  display: flex;
  flex-wrap: wrap;
  gap: 2px 14px;
}

.strip {
  margin: 0 0 12px;
  padding: 0;
}

.strip li {
  display: flex;
  flex-wrap: wrap;
  gap: 2px 12px;
  align-items: baseline;
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
  .filters .tabs,
  .search {
    flex: 1 1 100%;
  }
}
</style>
