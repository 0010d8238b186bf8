<script setup lang="ts">
import { computed, onMounted, ref, watch } from 'vue'

import BenchHead from '../parts/BenchHead.vue'
import TroubleNote from '../parts/TroubleNote.vue'
import { api } from '../use/api'
import { useBench } from '../use/bench'
import { useDefinition } from '../use/definition'
import { moment } from '../use/format'
import { useLoading } from '../use/loading'

const props = defineProps<{ input: string }>()

const definition = useDefinition()
const { text, plain, broken } = definition
const bench = useBench(() => props.input, definition)
const asText = ref(false)
const faults = ref<{ line: number; column: number; message: string }[]>([])
const { trouble, reload } = useLoading(bench.load)
onMounted(reload)

// The service says what is wrong with a text before it is saved.
let waiting: ReturnType<typeof setTimeout>
watch(text, () => {
  clearTimeout(waiting)
  waiting = setTimeout(async () => {
    const { error } = await api.POST('/api/v1/trials', { body: { definition: text.value, input: props.input, show: 'picked', limit: 1 } })
    faults.value = (error as { problems?: typeof faults.value } | undefined)?.problems ?? []
  }, 300)
})

type Cause = [key: string, says: string, answers: string[]]
const files = ['stop', 'leave_out', 'last_good', 'wait']
const causes: Cause[] = [
  ['broken', 'a picked file cannot be used', files],
  ['missing_column', 'a file lacks a required column', files],
  ['not_converted', 'values of a file do not convert', ['go_on', 'stop', 'leave_out', 'last_good', 'wait']],
  ['unusual', 'a file holds far more or less than usual', ['go_on', 'stop', 'leave_out', 'last_good', 'wait']],
  ['missing', 'expected files are overdue', ['go_on', 'stop', 'wait']],
  ['nothing_picked', 'no file is picked', ['stop', 'go_on', 'wait']],
  ['in_doubt', 'files are gone, which is not believed', files],
  ['unknown', 'a folder cannot be listed', files],
  ['arriving', 'files are still being written', files],
  ['unreachable', 'the place cannot be reached', ['stop', 'last_good', 'wait']],
  ['near_miss', 'files are nearly picked', ['go_on', 'stop', 'wait']],
]
const words: Record<string, string> = {
  stop: 'stop', leave_out: 'leave the file out', last_good: 'use its last good version', go_on: 'go on, with a warning', wait: 'wait for a person',
}

const gate = computed<Record<string, unknown>>(() => (plain.value.gate && typeof plain.value.gate === 'object' ? (plain.value.gate as Record<string, unknown>) : {}))
const when = computed<Record<string, unknown>>(() => (plain.value.refresh && typeof plain.value.refresh === 'object' ? (plain.value.refresh as Record<string, unknown>) : {}))
const handover = computed<Record<string, unknown>>(() => (plain.value.handover && typeof plain.value.handover === 'object' ? (plain.value.handover as Record<string, unknown>) : {}))

const answerOf = (key: string) => {
  const value = gate.value[key]
  return String((value && typeof value === 'object' ? (value as { answer?: string }).answer : value) ?? '')
}
const above = computed(() => String((gate.value.not_converted as { above?: string } | undefined)?.above ?? ''))

/** Sets a key below another; the last one that goes takes that with it. */
function set(under: string, now: Record<string, unknown>, key: string, value: unknown) {
  if (value === undefined && Object.keys(now).every((k) => k === key)) definition.set([under], undefined)
  else definition.set([under, key], value)
}
function setAnswer(key: string, answer: string) {
  const value = key === 'not_converted' && above.value && answer ? { above: above.value, answer } : answer || undefined
  set('gate', gate.value, key, value)
}
function setAbove(share: string) {
  const answer = answerOf('not_converted') || 'go_on'
  set('gate', gate.value, 'not_converted', share ? { above: share, answer } : answer)
}
const crons = computed(() => (Array.isArray(when.value.cron) ? (when.value.cron as unknown[]).map(String) : when.value.cron ? [String(when.value.cron)] : []))
function setCrons(text: string) {
  const list = text
    .split('\n')
    .map((l) => l.trim())
    .filter(Boolean)
  set('refresh', when.value, 'cron', list.length === 0 ? undefined : list.length === 1 ? list[0] : list)
}
const action = computed(() => ['copy', 'move', 'delete'].find((a) => handover.value[a] !== undefined) ?? '')
function setAction(to: string) {
  const folder = String(handover.value.move ?? handover.value.copy ?? 'done')
  const keep = handover.value.keep === false ? { keep: false } : {}
  definition.set(['handover'], to === '' ? undefined : to === 'delete' ? { delete: true, ...keep } : { [to]: folder, ...keep })
}

const value = (e: Event) => (e.target as HTMLInputElement).value.trim()
const checked = (e: Event) => (e.target as HTMLInputElement).checked
</script>

<template>
  <div @keydown="bench.keys">
    <trouble-note :trouble="trouble" />
    <bench-head v-model:as-text="asText" :input="input" what="Refresh" :bench="bench" :definition="definition" :faults="faults" />
    <ul v-if="faults.length || broken" class="text-error faults">
      <li v-if="broken">{{ broken }}</li>
      <li v-for="f in faults" :key="f.line + f.message">line {{ f.line }}: {{ f.message }}</li>
    </ul>
    <textarea v-if="asText" class="code text" aria-label="Definition" spellcheck="false" :value="text" @input="(e) => definition.write((e.target as HTMLTextAreaElement).value, true)" />
    <div v-else-if="bench.saved.value" class="fields">
      <section aria-label="Gate">
        <h2>Gate: what becomes of a refresh when</h2>
        <div class="sheet">
          <table class="rows">
            <tbody>
              <tr v-for="[key, says, answers] in causes" :key="key">
                <td>{{ says }}</td>
                <td class="answer">
                  <select :value="answerOf(key)" :aria-label="says" @change="(e) => setAnswer(key, value(e))">
                    <option value="">{{ key === 'missing_column' ? 'as for files that cannot be used' : words[answers[0]] }}</option>
                    <option v-for="a in key === 'missing_column' ? answers : answers.slice(1)" :key="a" :value="a">{{ words[a] }}</option>
                    <option v-if="answerOf(key) === answers[0] && key !== 'missing_column'" :value="answers[0]">{{ words[answers[0]] }}, as said</option>
                  </select>
                  <label v-if="key === 'not_converted'" class="quiet">
                    in more than <input class="share" :value="above" placeholder="0%" @change="(e) => setAbove(value(e))" /> of its rows
                  </label>
                </td>
              </tr>
            </tbody>
          </table>
        </div>
      </section>
      <div>
        <section aria-label="Schedule">
          <h2>Refreshed with nobody there</h2>
          <div class="pairs">
            <label>
              <span>at <span class="quiet">(cron, a line each)</span></span>
              <textarea rows="2" :value="crons.join('\n')" placeholder="0 6 * * mon" @change="(e) => setCrons(value(e))" />
            </label>
            <label>
              <span>once files changed, and nothing did for</span>
              <input :value="when.arrivals ?? ''" placeholder="never; as in 5m" @change="(e) => set('refresh', when, 'arrivals', value(e) || undefined)" />
            </label>
            <label>
              <span>when a period has all its files</span>
              <input type="checkbox" :checked="when.complete === true" :disabled="!plain.expect" @change="(e) => set('refresh', when, 'complete', checked(e) || undefined)" />
            </label>
          </div>
          <p class="quiet mt-1">
            Times are of {{ plain.zone ?? 'UTC' }}; one that daylight saving skips is at the end of the gap.
            <template v-if="bench.saved.value.next_refresh">As saved, the next is {{ moment(bench.saved.value.next_refresh) }}.</template>
          </p>
        </section>
        <section aria-label="Handover">
          <h2>Then the files that fed</h2>
          <div class="pairs">
            <label>
              <span>are</span>
              <select :value="action" @change="(e) => setAction(value(e))">
                <option value="">left where they are</option>
                <option value="copy">copied</option>
                <option value="move">moved</option>
                <option value="delete">deleted</option>
              </select>
            </label>
            <label v-if="action === 'copy' || action === 'move'">
              <span>to the folder</span>
              <input :value="handover[action]" placeholder="done/<year>" @change="(e) => set('handover', handover, action, value(e) || 'done')" />
            </label>
            <label v-if="action === 'move' || action === 'delete'">
              <span>and go on feeding, out of the vault</span>
              <input type="checkbox" :checked="handover.keep !== false" @change="(e) => set('handover', handover, 'keep', checked(e) ? undefined : false)" />
            </label>
          </div>
          <p v-if="action" class="quiet mt-1">Never in a rehearsal, and only in a place that is marked writable: <code>jorvex place writable {{ plain.place }}</code>.</p>
        </section>
        <section aria-label="Deliveries">
          <h2>Delivers</h2>
          <p v-for="d in bench.saved.value.deliveries" :key="d" class="path">{{ d }}</p>
          <p v-if="!bench.saved.value.deliveries.length" class="quiet">Nothing yet.</p>
          <p class="quiet">Kinds and formats are set in the text.</p>
        </section>
      </div>
    </div>
  </div>
</template>

<style scoped>
.fields {
  display: grid;
  grid-template-columns: minmax(0, 1.1fr) minmax(0, 1fr);
  gap: 0 32px;
}

.answer {
  width: 52%;
}

.answer select {
  width: 100%;
}

.share {
  width: 4.5em;
}

.pairs {
  display: grid;
  gap: 6px;
}

.pairs label {
  display: grid;
  grid-template-columns: 12em minmax(0, 1fr);
  gap: 10px;
  align-items: start;
}

.pairs :is(input:not([type='checkbox']), select, textarea) {
  width: 100%;
}

.pairs input[type='checkbox'] {
  justify-self: start;
  margin-top: 4px;
}

.text {
  width: 100%;
  min-height: 460px;
}

.faults {
  margin: 8px 0;
  padding-left: 18px;
}

@media (max-width: 900px) {
  .fields {
    grid-template-columns: minmax(0, 1fr);
  }

  .answer {
    width: auto;
  }
}
</style>
