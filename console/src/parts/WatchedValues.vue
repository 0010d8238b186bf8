<script setup lang="ts">
import { ref } from 'vue'

import type { Schemas } from '../use/api'
import { group } from '../use/crosstab'
import { count, number, signed } from '../use/format'

defineProps<{ columns: Schemas['WatchedColumn'][]; before?: number; input?: string }>()

const most = 60
const all = ref<Record<string, boolean>>({})
const marks: Record<string, string> = { gained: 'gained', moved: '' }
const query = (column: string, value: string) => (value === '' ? `${column} is blank` : `${column} is "${value.replaceAll('"', '""')}"`)
</script>

<template>
  <section v-if="columns.length" aria-label="Watched values">
    <h2>Watched values</h2>
    <div v-for="c in columns" :key="c.column" class="watched">
      <h3>
        {{ c.column }} <span class="quiet">{{ count(c.values.length, 'value') }}<template v-if="before">, against receipt {{ before }}</template></span>
      </h3>
      <ul class="values">
        <li v-for="v in all[c.column] ? c.values : c.values.slice(0, most)" :key="v.value" :class="v.change">
          <router-link v-if="input" :to="{ path: `/inputs/${input}/table`, query: { where: query(c.column, v.value) } }">{{ group(v.value) }}</router-link>
          <template v-else>{{ group(v.value) }}</template>
          <b>{{ number(v.rows) }}</b>
          <span v-if="v.change" class="quiet">{{ marks[v.change] }} {{ v.change === 'moved' ? signed(v.rows - (v.rows_before ?? 0)) : '' }}</span>
        </li>
        <li v-for="v in c.gone" :key="'gone ' + v.value" class="lost">
          <s>{{ group(v.value) }}</s> <span class="quiet">lost, {{ number(v.rows_before ?? 0) }} before</span>
        </li>
        <li v-if="c.values.length > most && !all[c.column]">
          <button type="button" class="link" @click="all[c.column] = true">{{ number(c.values.length - most) }} more</button>
        </li>
      </ul>
      <p v-if="c.beyond" class="quiet">{{ count(c.beyond, 'row') }} of more values than are told.</p>
    </div>
  </section>
</template>

<style scoped>
h3 {
  font-size: 1em;
  font-weight: 600;
  margin: 8px 0 2px;
}

h3 span {
  font-weight: 400;
}

.values {
  list-style: none;
  margin: 0;
  padding: 0;
  display: flex;
  flex-wrap: wrap;
  gap: 4px 8px;
}

.values li {
  display: flex;
  gap: 6px;
  border: 1px solid rgb(var(--v-theme-surface-variant));
  background: rgb(var(--v-theme-surface));
  border-radius: 3px;
  padding: 1px 8px;
  white-space: nowrap;
}

.values .gained {
  border-color: rgb(var(--v-theme-success));
}

.values .lost {
  border-color: rgb(var(--v-theme-error));
}
</style>
