<script setup lang="ts">
import { computed, onMounted, onUnmounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import TroubleNote from '../parts/TroubleNote.vue'
import { api, take, type Schemas, type Trouble } from '../use/api'
import { useEvent } from '../use/events'
import { count, moment, number, word } from '../use/format'
import { useLoading } from '../use/loading'

const props = defineProps<{ input: string }>()
const route = useRoute()
const router = useRouter()

const grid = ref<Schemas['Coverage']>()
const chosen = ref<{ row: number; column: number }>()
const note = ref('')
const failed = ref<Trouble>()
const sheet = ref<HTMLElement>()
const wide = ref(1000)

const from = computed(() => route.query.from as string | undefined)
const to = computed(() => route.query.to as string | undefined)
const { trouble, reload } = useLoading(async () => {
  grid.value = await take(
    api.GET('/api/v1/inputs/{input}/coverage', { params: { path: { input: props.input }, query: { from: from.value || undefined, to: to.value || undefined } } }),
  )
})
watch([() => props.input, from, to], reload, { immediate: true })
useEvent<{ input: string }>('roster', (e) => {
  if (e.input === props.input) void reload()
})

const measure = () => (wide.value = sheet.value?.clientWidth ?? wide.value)
let observer: ResizeObserver | undefined
onMounted(() => {
  observer = new ResizeObserver(measure)
  observer.observe(sheet.value!)
})
onUnmounted(() => observer?.disconnect())

const top = 22
const left = computed(() => 16 + 7.5 * Math.max(4, ...(grid.value?.rows ?? []).map((r) => r.member.length)))
const cell = computed(() => Math.max(4, Math.min(22, (wide.value - left.value - 16) / Math.max(1, grid.value?.columns.length ?? 1))))
const high = computed(() => ((grid.value?.rows.length ?? 0) > 30 ? 12 : 20))
const width = computed(() => left.value + cell.value * (grid.value?.columns.length ?? 0) + 8)
const height = computed(() => top + high.value * (grid.value?.rows.length ?? 0) + 8)

// Each state has a shape of its own, drawn as one path for the whole grid.
const shapes: Record<Schemas['SlotState'], (x: number, y: number, w: number, h: number) => string> = {
  filled: (x, y, w, h) => `M${x} ${y}h${w}v${h}h${-w}z`,
  late: (x, y, w, h) => `M${x} ${y + h / 2}h${w}v${h / 2}h${-w}z`,
  missing: (x, y, w, h) => `M${x} ${y}h${w}v${h}h${-w}zM${x + 1} ${y + 1}v${h - 2}h${w - 2}v${-(h - 2)}z`,
  doubled: (x, y, w, h) => `M${x} ${y}h${w}v${h * 0.4}h${-w}zM${x} ${y + h * 0.6}h${w}v${h * 0.4}h${-w}z`,
  broken: (x, y, w, h) => `M${x} ${y}l${w * 0.25} 0L${x + w} ${y + h}l${-w * 0.25} 0zM${x + w} ${y}l${-w * 0.25} 0L${x} ${y + h}l${w * 0.25} 0z`,
  not_due: (x, y, w, h) => `M${x + w / 2 - 1} ${y + h / 2 - 1}h2v2h-2z`,
  excused: (x, y, w, h) => `M${x + w * 0.15} ${y + h / 2 - 1}h${w * 0.7}v2h${-w * 0.7}z`,
}
const states = Object.keys(shapes) as Schemas['SlotState'][]

const paths = computed(() => {
  const d: Partial<Record<Schemas['SlotState'], string>> = {}
  const gap = cell.value > 8 ? 2 : 1
  grid.value?.rows.forEach((row, r) =>
    row.states.forEach((state, c) => {
      d[state] = (d[state] ?? '') + shapes[state](left.value + c * cell.value, top + r * high.value + 2, cell.value - gap, high.value - 4)
    }),
  )
  return d
})

const heads = computed(() => {
  const list: { x: number; text: string }[] = []
  let last = ''
  grid.value?.columns.forEach((name, c) => {
    const text = /^\d{4}-\d\d-\d\d$/.test(name) ? name.slice(0, 7) : name
    const x = left.value + c * cell.value
    if (text !== last && (list.length === 0 || x - list.at(-1)!.x > 7 * text.length)) list.push({ x, text })
    last = text
  })
  return list
})

const slot = computed(() => {
  const g = grid.value
  if (!g || !chosen.value) return undefined
  const row = g.rows[chosen.value.row]
  const state = row?.states[chosen.value.column]
  if (!state) return undefined
  const more = row.slots.find((s) => s.column === chosen.value!.column)
  return { member: row.member, period: g.columns[chosen.value.column], state, due: more?.due, files: more?.files ?? [], note: more?.note }
})

function press(e: MouseEvent) {
  const box = (e.currentTarget as SVGElement).getBoundingClientRect()
  choose(Math.floor((e.clientY - box.top - top) / high.value), Math.floor((e.clientX - box.left - left.value) / cell.value))
}

function choose(row: number, column: number) {
  const g = grid.value!
  if (row < 0 || column < 0 || row >= g.rows.length || column >= g.columns.length) return
  chosen.value = { row, column }
  note.value = ''
}

function keys(e: KeyboardEvent) {
  const step = { ArrowUp: [-1, 0], ArrowDown: [1, 0], ArrowLeft: [0, -1], ArrowRight: [0, 1] }[e.key]
  if (!step) return
  e.preventDefault()
  const at = chosen.value ?? { row: 0, column: -1 }
  choose(at.row + step[0], at.column + step[1])
}

async function excuse(back: boolean) {
  failed.value = undefined
  const at = { member: slot.value!.member, period: slot.value!.period }
  const params = { path: { input: props.input } }
  const { error } = back
    ? await api.DELETE('/api/v1/inputs/{input}/excuses', { params: { ...params, query: at } })
    : await api.POST('/api/v1/inputs/{input}/excuses', { params, body: { ...at, note: note.value } })
  if (error) failed.value = error as Trouble
  await reload()
}

const span = (change: { from?: string; to?: string }) => void router.replace({ query: { ...route.query, ...change } })
const value = (e: Event) => (e.target as HTMLInputElement).value
</script>

<template>
  <h1>Coverage of {{ input }}</h1>
  <p class="quiet">
    <router-link :to="`/inputs/${input}`">the input</router-link>
    <template v-if="grid">
      · from <input type="date" aria-label="From" :value="grid.from" @change="(e) => span({ from: value(e) })" /> to
      <input type="date" aria-label="To" :value="grid.to" @change="(e) => span({ to: value(e) })" />
    </template>
  </p>
  <trouble-note :trouble="trouble ?? failed" />
  <ul v-if="grid" class="legend" aria-label="States">
    <li v-for="s in states.filter((s) => grid!.counts[s])" :key="s">
      <svg width="14" height="14" aria-hidden="true"><path :d="shapes[s](1, 1, 12, 12)" :class="s" /></svg> {{ word(s) }} <b>{{ number(grid.counts[s]) }}</b>
    </li>
  </ul>
  <div ref="sheet" class="sheet grid">
    <svg
      v-if="grid && grid.rows.length"
      :width="width"
      :height="height"
      tabindex="0"
      role="application"
      aria-label="Grid of expected files; the arrow keys move over it"
      @click="press"
      @keydown="keys"
    >
      <text v-for="h in heads" :key="h.x" :x="h.x" y="14" class="head">{{ h.text }}</text>
      <text v-for="(row, r) in grid.rows" :key="row.member" x="8" :y="top + r * high + high * 0.7" class="head">{{ row.member }}</text>
      <path v-for="s in states" :key="s" :d="paths[s] ?? ''" :class="s" />
      <rect v-if="chosen" :x="left + chosen.column * cell - 1" :y="top + chosen.row * high" :width="cell + 1" :height="high" class="chosen" />
    </svg>
    <p v-else-if="grid" class="pad quiet">Nothing is expected in this span.</p>
  </div>
  <section v-if="slot" class="sheet pad slot" role="status">
    <b>{{ [slot.member, slot.period].filter(Boolean).join(', ') }}</b>: {{ word(slot.state) }}<template v-if="slot.due">, due {{ moment(slot.due) }}</template><template v-if="slot.note">: {{ slot.note }}</template>
    <div v-for="f in slot.files" :key="f" class="path">
      <router-link :to="{ path: `/inputs/${input}/story`, query: { path: f } }">{{ f }}</router-link>
    </div>
    <div v-if="slot.state === 'filled'">
      <router-link :to="{ path: `/inputs/${input}`, query: { verdict: 'picked', q: slot.period } }">its file</router-link>
    </div>
    <p v-if="slot.state === 'missing' || slot.state === 'not_due'">
      <input v-model="note" aria-label="Note" placeholder="why it need not come" />
      <v-btn size="small" variant="tonal" class="ml-2" @click="excuse(false)">Excuse it</v-btn>
    </p>
    <p v-if="slot.state === 'excused'"><v-btn size="small" variant="tonal" @click="excuse(true)">Take the excuse back</v-btn></p>
  </section>
  <p v-if="grid?.unplaced" class="quiet mt-3">{{ count(grid.unplaced, 'picked file') }} in no slot.</p>
</template>

<style scoped>
.legend {
  list-style: none;
  display: flex;
  flex-wrap: wrap;
  gap: 4px 18px;
  padding: 0;
  margin: 12px 0 8px;
}

.legend svg {
  vertical-align: -2px;
}

.grid {
  overflow-x: auto;
}

.pad {
  padding: 10px 12px;
}

.slot {
  margin-top: 12px;
}

.head {
  font-size: 12.5px;
  fill: rgba(var(--v-theme-on-surface), 0.78);
}

.filled {
  fill: rgba(var(--v-theme-success), 0.75);
}

.late {
  fill: rgb(var(--v-theme-secondary));
}

.missing,
.broken {
  fill: rgb(var(--v-theme-error));
}

.missing {
  fill-rule: evenodd;
}

.doubled {
  fill: rgb(var(--v-theme-warning));
}

.not_due,
.excused {
  fill: rgba(var(--v-theme-on-surface), 0.5);
}

.chosen {
  fill: none;
  stroke: rgb(var(--v-theme-primary));
  stroke-width: 2;
}
</style>
