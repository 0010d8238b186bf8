<script setup lang="ts">
import { mdiClose, mdiPlus } from '@mdi/js'

import type { Schemas } from '../use/api'
import type { Definition } from '../use/definition'
import { count } from '../use/format'
import TestFields from './TestFields.vue'

const props = defineProps<{
  definition: Definition
  list: 'pick' | 'only_if' | 'leave_out'
  label: string
  add: string
  fresh: string
  counts: Schemas['Rule'][]
  fields?: Schemas['Field'][]
  verbs?: Record<string, string[]>
}>()

const key = props.list === 'pick' ? 'pattern' : 'if'
const rules = () => props.definition.rules(props.list, key)
const met = (at: number) => props.counts[at]
</script>

<template>
  <section class="rules" :aria-label="label">
    <h2>{{ label }}</h2>
    <slot />
    <div v-for="(rule, at) in rules()" :key="at" class="rule" :class="{ off: rule.off }">
      <input
        type="checkbox"
        :checked="!rule.off"
        :aria-label="`Rule ${at + 1} is on`"
        title="Switch the rule off without deleting it"
        @change="definition.setRule(list, key, at, { text: rule.text, off: !rule.off })"
      />
      <test-fields
        v-if="fields && verbs"
        :text="rule.text"
        :fields="fields"
        :verbs="verbs"
        @write="(text) => definition.setRule(list, key, at, { text, off: rule.off }, true)"
      />
      <input
        v-else
        class="code"
        spellcheck="false"
        :aria-label="`Pattern ${at + 1}`"
        :value="rule.text"
        @input="(e) => definition.setRule(list, key, at, { text: (e.target as HTMLInputElement).value, off: rule.off }, true)"
      />
      <span class="met quiet">{{ rule.off ? 'off' : met(at) ? count(met(at).files, 'file') : '' }}</span>
      <v-btn :icon="mdiClose" size="x-small" variant="text" :aria-label="`Remove rule ${at + 1}`" @click="definition.removeRule(list, at)" />
    </div>
    <v-btn size="small" variant="text" :prepend-icon="mdiPlus" @click="definition.addRule(list, fresh)">{{ add }}</v-btn>
    <slot name="after" />
  </section>
</template>

<style scoped>
.rule {
  display: flex;
  align-items: center;
  gap: 8px;
  margin-bottom: 6px;
}

.rule > .code,
.rule > .test {
  flex: 1;
  min-width: 0;
}

.off .code {
  text-decoration: line-through;
}

.met {
  min-width: 62px;
  text-align: right;
  white-space: nowrap;
  font-variant-numeric: tabular-nums;
}

@media (max-width: 640px) {
  .rule {
    flex-wrap: wrap;
  }

  .rule > .code,
  .rule > .test {
    flex: 1 1 80%;
  }
}
</style>
