<script setup lang="ts">
import { mdiClose, mdiPlus } from '@mdi/js'
import { computed, ref } from 'vue'

import type { Definition } from '../use/definition'

const props = defineProps<{ definition: Definition }>()

type Parameter = { name?: string; type?: string; default?: unknown }
type Join = { from?: string[]; year?: unknown }

const parameters = computed<Parameter[]>(() => {
  const list = props.definition.plain.value.parameters
  return Array.isArray(list) ? (list as Parameter[]) : []
})
const joins = computed<[string, Join][]>(() => Object.entries((props.definition.plain.value.captures ?? {}) as Record<string, Join>))

/** Whether a pattern has captures to join. */
const captures = computed(() => (JSON.stringify(props.definition.plain.value.pick ?? '').match(/</g) ?? []).length > 1)

const types = ['text', 'number', 'date', 'period', 'folder']
const value = (e: Event) => (e.target as HTMLInputElement).value

function addParameter() {
  const fresh = { name: parameters.value.length ? `period_${parameters.value.length + 1}` : 'period', type: 'period', default: 'this month' }
  if (parameters.value.length) props.definition.set(['parameters', parameters.value.length], fresh)
  else props.definition.set(['parameters'], [fresh])
}

const name = ref('')
const from = ref('')
function addJoin() {
  const join = { from: from.value.split(/[\s,]+/).filter(Boolean) }
  if (joins.value.length) props.definition.set(['captures', name.value], join)
  else props.definition.set(['captures'], { [name.value]: join })
  name.value = from.value = ''
}
function removeJoin(key: string) {
  props.definition.set(joins.value.length > 1 ? ['captures', key] : ['captures'], undefined)
}
</script>

<template>
  <section aria-label="Set at each refresh">
    <h2>Set at each refresh</h2>
    <div v-for="(p, at) in parameters" :key="at" class="line">
      <input class="name" aria-label="Name of the parameter" :value="p.name" @input="(e) => definition.set(['parameters', at, 'name'], value(e), true)" />
      <select aria-label="Type of the parameter" :value="p.type ?? 'text'" @change="(e) => definition.set(['parameters', at, 'type'], value(e))">
        <option v-for="t in types" :key="t">{{ t }}</option>
      </select>
      <label class="quiet">
        else <input class="name" aria-label="Value when nothing is set" :value="String(p.default ?? '')" @input="(e) => definition.set(['parameters', at, 'default'], value(e), true)" />
      </label>
      <code class="quiet">${{ p.name }}</code>
      <v-btn :icon="mdiClose" size="x-small" variant="text" :aria-label="`Remove ${p.name}`" @click="definition.removeRule('parameters', at)" />
    </div>
    <v-btn size="small" variant="text" :prepend-icon="mdiPlus" @click="addParameter">Add a parameter</v-btn>
  </section>
  <section v-if="joins.length || captures" aria-label="Dates in parts">
    <h2>Dates in parts</h2>
    <div v-for="[key, join] in joins" :key="key" class="line">
      <span class="grow"><code>{{ key }}</code> is {{ (join.from ?? []).join(' and ') }} together</span>
      <label class="quiet">
        year <input class="name" aria-label="Year of the date" placeholder="in the parts" :value="join.year ?? ''" @input="(e) => definition.set(['captures', key, 'year'], value(e), true)" />
      </label>
      <v-btn :icon="mdiClose" size="x-small" variant="text" :aria-label="`Remove ${key}`" @click="removeJoin(key)" />
    </div>
    <form class="line" @submit.prevent="addJoin">
      <input v-model="name" class="name" aria-label="Name of the date" placeholder="name" required />
      <label class="quiet">is <input v-model="from" aria-label="Captures it is made of" placeholder="year, month" required /> together</label>
      <v-btn size="small" variant="text" type="submit">Join</v-btn>
    </form>
  </section>
</template>

<style scoped>
.line {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 8px;
  margin: 4px 0;
}

.name {
  width: 8em;
}
</style>
