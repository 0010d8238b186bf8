<script setup lang="ts">
import { computed } from 'vue'

import type { Schemas } from '../use/api'
import { readTest, writeTest, type Test } from '../use/condition'

const props = defineProps<{ text: string; fields: Schemas['Field'][]; verbs: Record<string, string[]> }>()
const emit = defineEmits<{ write: [text: string] }>()

const test = computed(() => readTest(props.text, props.fields))
const kindOf = (field: string) => props.fields.find((f) => f.name === field)?.kind ?? 'text'

function change(part: Partial<Test>) {
  const next = { ...test.value!, ...part }
  const fitting = props.verbs[kindOf(next.field)] ?? []
  if (!fitting.includes(next.verb)) next.verb = fitting[0] ?? 'is'
  emit('write', writeTest(next, props.fields))
}

const value = (e: Event) => (e.target as HTMLInputElement).value
const hint = computed(() => {
  const t = test.value
  if (!t) return ''
  if (t.verb === 'within last') return '8 weeks'
  if (t.verb === 'is one of') return 'csv, txt'
  return { number: '10 KB', date: '2026-10 or 2026-10-05', time: '2026-10-05', text: '' }[kindOf(t.field)]
})
</script>

<template>
  <div v-if="test" class="test">
    <select :value="test.not ? 'not' : ''" aria-label="Whether it is turned round" class="turn" @change="(e) => change({ not: value(e) === 'not' })">
      <option value="" />
      <option value="not">not</option>
    </select>
    <select :value="test.field" aria-label="Field" @change="(e) => change({ field: value(e) })">
      <option v-for="f in fields" :key="f.name">{{ f.name }}</option>
    </select>
    <select :value="test.verb" aria-label="Verb" @change="(e) => change({ verb: value(e) })">
      <option v-for="v in verbs[kindOf(test.field)]" :key="v">{{ v }}</option>
    </select>
    <input v-if="test.verb !== 'is blank'" aria-label="Value" :value="test.value" :placeholder="hint" @input="(e) => change({ value: value(e) })" />
  </div>
  <input v-else class="code test" spellcheck="false" aria-label="Condition" :value="text" @input="(e) => emit('write', value(e))" />
</template>

<style scoped>
div.test {
  display: flex;
  gap: 4px;
  flex-wrap: wrap;
}

input {
  flex: 1;
  min-width: 90px;
}
</style>
