<script setup lang="ts">
import { mdiArrowUp, mdiClose, mdiPlus, mdiSchool } from '@mdi/js'
import { computed, onMounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import BenchHead from '../parts/BenchHead.vue'
import ColumnMap from '../parts/ColumnMap.vue'
import FindingList from '../parts/FindingList.vue'
import LayoutFields from '../parts/LayoutFields.vue'
import ShapedRows from '../parts/ShapedRows.vue'
import TroubleNote from '../parts/TroubleNote.vue'
import { api, take, type Schemas, type Trouble } from '../use/api'
import { useBench } from '../use/bench'
import { useDefinition } from '../use/definition'
import { count, number } from '../use/format'
import { useLoading } from '../use/loading'

const props = defineProps<{ input: string }>()
const route = useRoute()
const router = useRouter()

const definition = useDefinition()
const bench = useBench(() => props.input, definition)
const { saved, keys } = bench
const asText = ref(false)
const files = ref<string[]>([])
const page = ref<Schemas['RowPage']>()
const map = ref<Schemas['ColumnMap']>()
const unsure = ref<string[]>()
const faults = ref<{ line: number; column: number; message: string }[]>([])
const trouble = ref<Trouble>()
const busy = ref(false)
const learning = ref(false)

const file = computed(() => (typeof route.query.file === 'string' ? route.query.file : (files.value[0] ?? '')))
function choose(path: string) {
  void router.replace({ query: { file: path } })
}

const { trouble: unread, reload } = useLoading(async () => {
  await bench.load()
  const list = await take(api.GET('/api/v1/inputs/{input}/files', { params: { path: { input: props.input }, query: { verdict: 'picked', limit: 500 } } }))
  files.value = list.items.map((f) => f.path)
  await run()
})
onMounted(reload)

/** Keeps an answer only if nothing was asked since, and what is wrong with it. */
let asked = 0
let pending: AbortController | undefined
async function run() {
  const mine = ++asked
  pending?.abort() // the service need not go on with what nobody waits for
  const { signal } = (pending = new AbortController())
  busy.value = true
  try {
    const body = { definition: definition.text.value, path: file.value || undefined, limit: 60 }
    const got = await take(api.POST('/api/v1/inputs/{input}/rows', { params: { path: { input: props.input } }, body, signal }))
    if (mine !== asked) return
    page.value = got
    trouble.value = undefined
    faults.value = []
    const drawn = await take(api.POST('/api/v1/inputs/{input}/column-map', { params: { path: { input: props.input } }, body: { definition: definition.text.value }, signal }))
    if (mine === asked) map.value = drawn
  } catch (e) {
    if (mine !== asked) return
    const problem = e as Trouble & { problems?: typeof faults.value }
    faults.value = problem.problems ?? []
    trouble.value = problem.problems ? undefined : problem
  } finally {
    if (mine === asked) busy.value = false
  }
}
let waiting: ReturnType<typeof setTimeout>
watch([definition.text, file], () => {
  clearTimeout(waiting)
  waiting = setTimeout(() => void run(), 200)
})

async function learn() {
  learning.value = true
  try {
    const got = await take(
      api.POST('/api/v1/inputs/{input}/proposals', { params: { path: { input: props.input } }, body: { definition: definition.text.value, path: file.value || undefined } }),
    )
    definition.write(got.definition)
    unsure.value = got.unsure
    trouble.value = undefined
  } catch (e) {
    trouble.value = e as Trouble
  } finally {
    learning.value = false
  }
}

type Column = Record<string, unknown> & { name?: string; headers?: unknown[] }
const columns = computed<Column[]>(() => {
  const list = definition.plain.value.columns
  return Array.isArray(list) ? list.map((c: unknown) => (c && typeof c === 'object' ? (c as Column) : {})) : []
})
const numbers = ['whole', 'decimal', 'money', 'percent']
const numeric = computed(() => columns.value.filter((c) => numbers.includes(String(c.type))).map((c) => String(c.name)))
/** Gives a column another type; what is no number has no total. */
function setType(at: number, type: string) {
  const total: [(string | number)[], unknown][] = type === '' || numbers.includes(type) ? [] : [[['columns', at, 'total'], undefined]]
  definition.setAll([[['columns', at, 'type'], type === 'text' ? undefined : type], ...total])
}
const types = ['text', 'whole', 'decimal', 'money', 'percent', 'date', 'time', 'timestamp', 'yes_no']

/** Where a column comes from, if that is not a header. */
function source(c: Column) {
  if (c.capture) return `capture ${String(c.capture)}`
  if (c.file) return `file ${String(c.file)}`
  if (c.compute) return `= ${String(c.compute)}`
  if (c.from) return `from ${String(c.from)}${c.part ? `, ${String(c.part)}` : ''}`
  if (c.position) return `position ${String(c.position)}`
  return ''
}
/** Renames a column. One that is found by its name goes on being found. */
function setName(at: number, name: string) {
  const c = columns.value[at]
  const found = !source(c) && !c.headers && (page.value?.bound?.[page.value.columns.indexOf(String(c.name))] ?? -1) >= 0
  definition.setAll([[['columns', at, 'name'], name], ...(found ? ([[['columns', at, 'headers'], [c.name]]] as [(string | number)[], unknown][]) : [])], true)
}
function setHeaders(at: number, text: string) {
  const list = text
    .split('|')
    .map((h) => h.trim())
    .filter(Boolean)
  definition.set(['columns', at, 'headers'], list.length ? list : undefined, true)
}

function nameOf(header: string) {
  const name = header
    .normalize('NFKD')
    .replace(/\p{Mn}/gu, '')
    .toLowerCase()
    .replace(/[^\p{L}\p{N}]+/gu, '_')
    .replace(/^_+|_+$/g, '')
  return /^\p{L}/u.test(name) ? name : `column_${name}`
}
function takeIn(header: string) {
  definition.addEntry('columns', { name: nameOf(header), headers: [header] })
}

const value = (e: Event) => (e.target as HTMLInputElement).value
const checked = (e: Event) => (e.target as HTMLInputElement).checked
</script>

<template>
  <trouble-note :trouble="unread" />
  <div v-if="saved" @keydown="keys">
    <bench-head v-model:as-text="asText" what="Read" :input="input" :bench="bench" :definition="definition" :faults="faults" />

    <div class="line my-3">
      <select class="grow" aria-label="File" :value="file" @change="(e) => choose(value(e))">
        <option v-for="f in files" :key="f">{{ f }}</option>
        <option v-if="file && !files.includes(file)">{{ file }}</option>
      </select>
      <v-btn :variant="columns.length ? 'tonal' : 'flat'" :color="columns.length ? undefined : 'primary'" size="small" :prepend-icon="mdiSchool" :loading="learning" :disabled="!file" @click="learn">
        Learn from this file
      </v-btn>
    </div>
    <v-alert v-if="unsure" type="info" class="my-3" closable title="Learnt, and not saved" @click:close="unsure = undefined">
      <span v-if="unsure.length === 0">Nothing was unsure. Look at the rows below, then save.</span>
      <ul v-else>
        <li v-for="u in unsure" :key="u">{{ u }}</li>
      </ul>
    </v-alert>
    <trouble-note :trouble="trouble" />
    <v-alert v-if="faults.length" type="error" title="The definition is not valid yet">
      <ul>
        <li v-for="f in faults" :key="`${f.line}:${f.column}`">line {{ f.line }}: {{ f.message }}</li>
      </ul>
    </v-alert>

    <textarea
      v-if="asText || definition.broken.value"
      class="code text"
      spellcheck="false"
      aria-label="Text of the definition"
      :value="definition.text.value"
      @input="(e) => definition.write(value(e), true)"
    />
    <div v-else class="fields">
      <section aria-label="Columns">
        <h2>Columns</h2>
        <p v-if="columns.length === 0" class="quiet">None is declared, so files are chosen and not read. Learn them from a file, or add one.</p>
        <div v-else class="sheet grid sideways">
          <table class="rows">
            <thead>
              <tr>
                <th>Name</th>
                <th>Headers, or where it comes from</th>
                <th>Type</th>
                <th><abbr title="a file without it is broken">required</abbr></th>
                <th><abbr title="tells rows apart">key</abbr></th>
                <th><abbr title="its sum is a control total">total</abbr></th>
                <th />
              </tr>
            </thead>
            <tbody>
              <tr v-for="(c, at) in columns" :key="at">
                <td><input class="full" :aria-label="`Name of column ${at + 1}`" :value="c.name" @input="(e) => setName(at, value(e))" /></td>
                <td>
                  <span v-if="source(c)" class="quiet">{{ source(c) }}</span>
                  <input
                    v-else
                    class="full"
                    :aria-label="`Headers of ${c.name}`"
                    :placeholder="c.name"
                    :value="(c.headers ?? []).join(' | ')"
                    @change="(e) => setHeaders(at, value(e))"
                  />
                </td>
                <td>
                  <select :aria-label="`Type of ${c.name}`" :value="c.type ?? (c.capture || c.file || c.part || c.compute ? '' : 'text')" @change="(e) => setType(at, value(e))">
                    <option v-if="c.capture || c.file || c.part || c.compute" value="">its own</option>
                    <option v-for="t in types" :key="t">{{ t }}</option>
                  </select>
                </td>
                <td v-for="flag in ['required', 'key', 'total']" :key="flag" class="tick">
                  <input
                    v-if="flag !== 'required' || !source(c)"
                    type="checkbox"
                    :aria-label="`${flag}: ${c.name}`"
                    :checked="c[flag] === true"
                    @change="(e) => definition.set(['columns', at, flag], checked(e) || undefined)"
                  />
                </td>
                <td class="acts">
                  <v-btn :icon="mdiArrowUp" size="x-small" variant="text" :aria-label="`Move ${c.name} up`" :disabled="at === 0" @click="definition.moveEntry('columns', at, at - 1)" />
                  <v-btn :icon="mdiClose" size="x-small" variant="text" :aria-label="`Take ${c.name} away`" @click="definition.removeRule('columns', at)" />
                </td>
              </tr>
            </tbody>
          </table>
        </div>
        <v-btn class="mt-2" size="small" variant="text" :prepend-icon="mdiPlus" @click="definition.addEntry('columns', { name: `column_${columns.length + 1}` })">Add a column</v-btn>
      </section>
      <layout-fields :definition="definition" />
    </div>

    <template v-if="page && page.columns.length">
      <h2>{{ page.path.split('/').at(-1) }}</h2>
      <p :class="{ quiet: busy || faults.length }">
        {{ count(page.rows_read, 'row') }} below the header, <b>{{ number(page.rows_kept) }}</b> kept; the first {{ number(page.items.length) }} are shown
      </p>
      <finding-list :findings="page.findings" class="my-2" />
      <shaped-rows :page="page" :numbers="numeric" @take="takeIn" />
    </template>
    <column-map v-if="map && map.rows.length" :map="map" @choose="choose" />
    <p class="mt-4"><v-btn variant="text" size="small" @click="router.push(`/inputs/${input}`)">Back to the input</v-btn></p>
  </div>
</template>

<style scoped>
.line {
  display: flex;
  gap: 12px;
  align-items: center;
}

.grow {
  flex: 1;
  min-width: 0;
}

.full {
  width: 100%;
  min-width: 8em;
}

.text {
  width: 100%;
  min-height: 460px;
}

.fields {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 340px;
  gap: 0 28px;
}

.grid {
  max-height: 28rem;
  overflow: auto;
}

.grid td {
  padding: 2px 6px;
  vertical-align: middle;
}

.tick {
  text-align: center;
}

.acts {
  white-space: nowrap;
}

abbr {
  text-decoration: none;
}

@media (max-width: 900px) {
  .fields {
    grid-template-columns: minmax(0, 1fr);
  }

  .line {
    flex-wrap: wrap;
  }
}
</style>
