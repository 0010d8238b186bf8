<script setup lang="ts">
import { mdiClose } from '@mdi/js'
import { computed, onMounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import BenchHead from '../parts/BenchHead.vue'
import ParameterFields from '../parts/ParameterFields.vue'
import PatternBuilder from '../parts/PatternBuilder.vue'
import RuleList from '../parts/RuleList.vue'
import SetNotes from '../parts/SetNotes.vue'
import StateMark from '../parts/StateMark.vue'
import TroubleNote from '../parts/TroubleNote.vue'
import WindowFields from '../parts/WindowFields.vue'
import { api, take, type File, type Schemas } from '../use/api'
import { useBench } from '../use/bench'
import { useDefinition } from '../use/definition'
import { useEvent } from '../use/events'
import { count, number } from '../use/format'
import { useLoading } from '../use/loading'
import { useTrial } from '../use/trial'

const props = defineProps<{ input: string }>()
const route = useRoute()
const router = useRouter()

const places = ref<Schemas['Place'][]>([])
const vocabulary = ref<Schemas['Vocabulary']>()
const definition = useDefinition()
const bench = useBench(() => props.input, definition)
const { saved, changed, keys } = bench
const asText = ref(false)
const example = ref<string>()

const show = ref<'gained' | 'lost' | NonNullable<Schemas['TrialRequest']['show']>>('picked')
const asked = computed(() => (show.value === 'gained' || show.value === 'lost' ? 'all' : show.value))
const search = ref('')
const { trial, trouble, faults, busy, run } = useTrial(() => props.input, definition.text, asked, search)

const { trouble: unread, reload } = useLoading(async () => {
  await bench.load()
  const [list, words] = await Promise.all([take(api.GET('/api/v1/places')), take(api.GET('/api/v1/vocabulary'))])
  places.value = list.items
  vocabulary.value = words
  const cure = route.query.add
  if (typeof cure === 'string') {
    definition.addRule('pick', cure)
    show.value = 'gained'
  }
  await run()
})
onMounted(reload)
useEvent<{ input: string }>('roster', (e) => {
  if (e.input === props.input) void run()
})

watch(bench.saved, (now, before) => before && now && run())

const byHand = computed(() => {
  const files = definition.plain.value.files
  return Array.isArray(files) ? files.map((f: unknown) => (f && typeof f === 'object' ? String((f as { path?: string }).path) : String(f))) : []
})
const listPath = computed(() => (typeof definition.plain.value.list === 'string' ? ['list'] : ['list', 'file']))
const list = computed(() => {
  const l = definition.plain.value.list
  return l && typeof l === 'object' ? String((l as { file?: string }).file ?? '') : l ? String(l) : ''
})

const fields = computed(() => [...(vocabulary.value?.fields ?? []), ...(trial.value?.captures ?? [])])
const counts = (kind: string) => (trial.value?.rules ?? []).filter((r) => r.kind === kind)

const tabs = computed(() => {
  const t = trial.value
  if (!t) return []
  return [
    { show: 'gained', label: 'gained', n: t.gained.files },
    { show: 'lost', label: 'lost', n: t.lost.files },
    { show: 'near', label: 'near misses', n: t.counts.near },
    { show: 'picked', label: 'picked', n: t.counts.picked },
    { show: 'left_out', label: 'left out', n: t.counts.left_out },
    { show: 'held_back', label: 'held back', n: t.counts.held_back },
    { show: 'all', label: 'all', n: t.counts.files },
  ].filter((x) => x.show !== 'held_back' || x.n > 0) as { show: typeof show.value; label: string; n: number }[]
})
const files = computed<File[]>(() => {
  const t = trial.value
  if (!t) return []
  if (show.value === 'gained') return t.gained.items
  if (show.value === 'lost') return t.lost.items
  return t.files.items
})
const total = computed(() => tabs.value.find((t) => t.show === show.value)?.n ?? 0)

/** The part of a path below the input's folder, which patterns are of. */
function below(path: string) {
  const folder = String(definition.plain.value.folder ?? '').replace(/^\/+|\/+$/g, '')
  return folder && path.startsWith(folder + '/') ? path.slice(folder.length + 1) : path
}

function build(path: string) {
  example.value = below(path)
  asText.value = false
  window.scrollTo({ top: 0, behavior: 'smooth' })
}

function use(made: string) {
  definition.addRule('pick', made)
  example.value = undefined
  show.value = 'gained'
}

const value = (e: Event) => (e.target as HTMLInputElement).value
const checked = (e: Event) => (e.target as HTMLInputElement).checked
</script>

<template>
  <trouble-note :trouble="unread" />
  <div v-if="saved" @keydown="keys">
    <bench-head v-model:as-text="asText" what="Choose" :input="input" :bench="bench" :definition="definition" :faults="faults" />

    <div class="bench">
      <div class="side">
        <div v-if="asText || definition.broken.value">
          <textarea
            class="code text"
            spellcheck="false"
            aria-label="Text of the definition"
            :value="definition.text.value"
            @input="(e) => definition.write(value(e), true)"
          />
        </div>
        <template v-else>
          <section aria-label="Where">
            <h2>Where</h2>
            <div class="line">
              <select :value="definition.plain.value.place" aria-label="Place" @change="(e) => definition.set(['place'], value(e))">
                <option v-for="p in places" :key="p.name">{{ p.name }}</option>
              </select>
              <input
                class="grow"
                aria-label="Folder"
                placeholder="the whole place"
                :value="definition.plain.value.folder ?? ''"
                @input="(e) => definition.set(['folder'], value(e), true)"
              />
            </div>
          </section>

          <rule-list
            :definition="definition"
            list="pick"
            label="Patterns"
            add="Write a pattern"
            fresh="*"
            :counts="counts('pattern')"
          >
            <template #after>
              <v-btn v-if="!example" size="small" variant="text" @click="files[0] && build(files[0].path)">Build one from an example</v-btn>
              <pattern-builder v-if="example" :path="example" @use="use" @close="example = undefined" />
            </template>
          </rule-list>
          <section v-if="byHand.length || list" aria-label="By hand">
            <h2>By hand</h2>
            <label v-if="list" class="line">
              the list in
              <input class="grow" aria-label="File of the list" :value="list" @input="(e) => definition.set(listPath, value(e), true)" />
            </label>
            <div v-for="(path, at) in byHand" :key="path" class="line">
              <span class="grow path">{{ path }}</span>
              <v-btn :icon="mdiClose" size="x-small" variant="text" :aria-label="`Take ${path} off the list`" @click="definition.removeRule('files', at)" />
            </div>
          </section>
          <rule-list
            v-if="vocabulary"
            :definition="definition"
            list="only_if"
            label="Only if"
            add="Add a condition"
            fresh="size above 0"
            :counts="counts('only_if')"
            :fields="fields"
            :verbs="vocabulary.verbs"
          />
          <rule-list
            v-if="vocabulary"
            :definition="definition"
            list="leave_out"
            label="Leave out if"
            add="Add a condition"
            fresh="name contains &quot;draft&quot;"
            :counts="counts('leave_out')"
            :fields="fields"
            :verbs="vocabulary.verbs"
          />
          <window-fields :definition="definition" :captures="trial?.captures ?? []" :rules="trial?.rules ?? []" />
          <parameter-fields :definition="definition" />
          <section aria-label="And">
            <h2>Besides</h2>
            <label class="line">
              <input
                type="checkbox"
                :checked="definition.plain.value.same_content === 'leave_out'"
                @change="(e) => definition.set(['same_content'], checked(e) ? 'leave_out' : undefined)"
              />
              leave out a file with the content of one before it
            </label>
            <label class="line">
              <input
                type="checkbox"
                :checked="definition.plain.value.match_case === true"
                @change="(e) => definition.set(['match_case'], checked(e) || undefined)"
              />
              letter case matters in patterns
            </label>
            <details>
              <summary>
                <label>
                  <input
                    type="checkbox"
                    :checked="definition.plain.value.scratch !== 'keep'"
                    @change="(e) => definition.set(['scratch'], checked(e) ? undefined : 'keep')"
                  />
                  leave out scratch files
                </label>
              </summary>
              <ul class="scratch">
                <li v-for="s in vocabulary?.scratch" :key="s.pattern"><code>{{ s.pattern }}</code> {{ s.what }}</li>
              </ul>
            </details>
          </section>
        </template>
      </div>

      <div class="side result" aria-live="polite">
        <trouble-note :trouble="trouble" />
        <v-alert v-if="faults.length" type="error" title="The definition is not valid yet">
          <ul>
            <li v-for="f in faults" :key="`${f.line}:${f.column}`">line {{ f.line }}: {{ f.message }}</li>
          </ul>
        </v-alert>
        <template v-if="trial">
          <p class="sum" :class="{ quiet: busy || faults.length }">
            <b>{{ number(trial.counts.picked) }}</b> of {{ count(trial.counts.files, 'file') }} picked<template v-if="changed">
              · {{ number(trial.gained.files) }} gained, {{ number(trial.lost.files) }} lost against version {{ saved.version }}
            </template>
          </p>
          <set-notes :findings="trial.findings" />
          <div class="tabs" role="group" aria-label="Show">
            <button v-for="t in tabs" :key="t.show" type="button" :aria-pressed="show === t.show" @click="show = t.show">{{ t.label }} <b>{{ number(t.n) }}</b></button>
          </div>
          <ul v-if="show === 'near' && trial.cures.length" class="cures">
            <li v-for="c in trial.cures" :key="c.kind + c.pattern + c.says">
              <div>
                <b>{{ c.kind.replaceAll('_', ' ') }}</b>: {{ c.says }}
                <div class="quiet path">{{ c.path }}</div>
              </div>
              <v-btn v-if="c.pattern" size="small" variant="tonal" @click="use(c.pattern)">Take in {{ count(c.files, 'file') }}</v-btn>
              <span v-else class="quiet">no pattern can</span>
            </li>
          </ul>
          <input v-model="search" class="find" type="search" aria-label="Path contains" placeholder="path contains" />
          <div class="sheet">
            <table class="rows">
              <tbody>
                <tr v-for="f in files" :key="f.path">
                  <td><state-mark :of="f.verdict" /></td>
                  <td class="path">
                    {{ below(f.path) }}
                    <div v-if="f.reason !== 'pattern_matches'" class="quiet">{{ f.sentence }}</div>
                  </td>
                  <td class="number">
                    <button type="button" class="link" :aria-label="`Build a pattern from ${f.path}`" @click="build(f.path)">as example</button>
                    <template v-if="f.verdict === 'left_out' && !list">
                      · <button type="button" class="link" :aria-label="`Pick ${f.path} by hand`" @click="definition.addRule('files', below(f.path))">by hand</button>
                    </template>
                  </td>
                </tr>
                <tr v-if="files.length === 0">
                  <td colspan="3" class="quiet">{{ show === 'gained' ? 'No file is gained.' : show === 'lost' ? 'No file is lost.' : 'No file.' }}</td>
                </tr>
              </tbody>
            </table>
          </div>
          <p v-if="total > files.length" class="quiet">{{ number(files.length) }} of {{ number(total) }} are shown.</p>
        </template>
      </div>
    </div>
    <p class="mt-4"><v-btn variant="text" size="small" @click="router.push(`/inputs/${input}`)">Back to the input</v-btn></p>
  </div>
</template>

<style scoped>
.bench {
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(0, 1fr);
  gap: 0 28px;
}

.text {
  width: 100%;
  min-height: 560px;
  margin-top: 16px;
}

.line {
  display: flex;
  gap: 8px;
  align-items: center;
}

.grow {
  flex: 1;
}

.result {
  padding-top: 16px;
}

.sum {
  margin-bottom: 8px;
  font-size: 1.05rem;
}

.cures {
  list-style: none;
  padding: 0;
  margin: 8px 0;
}

.cures li {
  display: flex;
  justify-content: space-between;
  gap: 12px;
  padding: 6px 0;
  border-bottom: 1px solid rgb(var(--v-theme-surface-variant));
}

.find {
  width: 100%;
  margin: 8px 0;
}

.scratch {
  margin: 4px 0 0;
  padding-left: 24px;
  columns: 2;
  font-size: 0.9em;
}

@media (max-width: 820px) {
  .bench {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
