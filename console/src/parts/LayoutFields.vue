<script setup lang="ts">
import { computed } from 'vue'

import type { Definition } from '../use/definition'

const props = defineProps<{ definition: Definition }>()

const read = computed<Record<string, unknown>>(() => {
  const r = props.definition.plain.value.read
  return r && typeof r === 'object' ? (r as Record<string, unknown>) : {}
})
const list = (key: string) => (Array.isArray(read.value[key]) ? (read.value[key] as unknown[]).join(' | ') : String(read.value[key] ?? ''))

/** Sets a key of read; the last one that goes takes read with it. */
function set(key: string, value: unknown, typing = false) {
  if (value === undefined && Object.keys(read.value).every((k) => k === key)) props.definition.set(['read'], undefined)
  else props.definition.set(['read', key], value, typing)
}
function setList(key: string, text: string) {
  const parts = text
    .split('|')
    .map((p) => p.trim())
    .filter(Boolean)
  set(key, parts.length === 0 ? undefined : parts.length === 1 ? parts[0] : parts)
}
function setNumber(key: string, text: string) {
  set(key, text === '' ? undefined : /^\d+$/.test(text) ? Number(text) : text)
}

const value = (e: Event) => (e.target as HTMLInputElement).value
const checked = (e: Event) => (e.target as HTMLInputElement).checked

const choices: Record<string, [label: string, fallback: string, options: string[]]> = {
  decimal: ['decimal mark', 'point', ['comma', 'point']],
  thousands: ['between thousands', 'nothing', ['comma', 'point', 'space', 'apostrophe']],
  delimiter: ['between cells', 'found out', ['comma', 'semicolon', 'tab', 'pipe']],
  extra: ['undeclared columns', 'dropped, with a note', ['drop', 'warn', 'keep']],
}
const texts: [key: string, label: string, hint: string][] = [
  ['sheet', 'sheet', 'the first that fits'],
  ['header_row', 'header row', 'found out'],
  ['skip_top', 'rows skipped above', '0'],
  ['skip_bottom', 'rows skipped below', '0'],
  ['encoding', 'encoding', 'UTF-8, or judged'],
]
const lists: [key: string, label: string, hint: string][] = [
  ['dates', 'forms of dates', 'ISO 8601'],
  ['null_words', 'words for blanks', 'none'],
  ['leave_out', 'leave out rows', 'none, as in port starts with "Sum"'],
  ['carry_down', 'carried down', 'no column'],
]
</script>

<template>
  <section aria-label="Layout">
    <h2>Layout</h2>
    <div class="pairs">
      <label v-for="[key, label, hint] in texts" :key="key">
        <span>{{ label }}</span>
        <input :value="read[key] ?? ''" :placeholder="hint" @change="(e) => setNumber(key, value(e))" />
      </label>
      <label v-for="([label, fallback, options], key) in choices" :key="key">
        <span>{{ label }}</span>
        <select :value="read[key] ?? ''" @change="(e) => set(String(key), value(e) || undefined)">
          <option value="">{{ fallback }}</option>
          <option v-for="o in options" :key="o">{{ o }}</option>
        </select>
      </label>
      <label v-for="[key, label, hint] in lists" :key="key">
        <span>{{ label }}</span>
        <input :value="list(key)" :placeholder="hint" @change="(e) => setList(key, value(e))" />
      </label>
      <label>
        <span>rows and columns swapped</span>
        <input type="checkbox" :checked="read.swap === true" @change="(e) => set('swap', checked(e) || undefined)" />
      </label>
    </div>
  </section>
</template>

<style scoped>
.pairs {
  display: grid;
  gap: 3px;
}

.pairs label {
  display: grid;
  grid-template-columns: 11em minmax(0, 1fr);
  align-items: center;
}

.pairs :is(input:not([type='checkbox']), select) {
  width: 100%;
}

.pairs input[type='checkbox'] {
  justify-self: start;
}
</style>
