<script setup lang="ts">
import { computed } from 'vue'

import type { Schemas } from '../use/api'

const props = defineProps<{ page: Schemas['RowPage']; numbers?: string[] }>()
defineEmits<{ take: [header: string] }>()

const width = computed(() => Math.min(60, Math.max(0, ...props.page.items.map((r) => r.cells.length))))
const columnOf = computed(() => {
  const of: Record<number, string> = {}
  props.page.bound?.forEach((cell, i) => {
    if (cell >= 0) of[cell] = props.page.columns[i]
  })
  return of
})
const header = computed(() => props.page.items.filter((r) => r.became === 'header').at(-1))

/** What is told of a column's values, to stand beside the cells that it is of. */
const told = computed(() => {
  const by: Record<string, string> = {}
  for (const f of props.page.findings) if (f.column) by[f.column] = [by[f.column], f.sentence].filter(Boolean).join('; ')
  return by
})
const lost = (r: Schemas['Row'], column: number) => r.lost?.includes(column)
const lostCell = (r: Schemas['Row'], cell: number) => r.lost?.some((c) => props.page.bound?.[c] === cell)
</script>

<template>
  <div class="panes" role="group" aria-label="Rows">
    <div class="pane" tabindex="0" aria-label="As they are in the file">
      <table>
        <thead>
          <tr>
            <th class="number">Row</th>
            <th v-for="n in width" :key="n">
              <template v-if="columnOf[n - 1]">{{ columnOf[n - 1] }}</template>
              <button v-else-if="header?.cells[n - 1]" type="button" class="link" :aria-label="`Take in the column ${header.cells[n - 1]}`" @click="$emit('take', header.cells[n - 1])">take in</button>
              <span v-else class="quiet">{{ n }}</span>
            </th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(r, i) in page.items" :key="i" :class="[r.became === 'header' ? 'headline' : { quiet: r.became !== 'kept' }]">
            <td class="number quiet">{{ r.row }}</td>
            <td v-for="n in width" :key="n" :class="{ lost: lostCell(r, n - 1) }">{{ r.cells[n - 1] }}</td>
          </tr>
        </tbody>
      </table>
    </div>
    <div class="pane" tabindex="0" aria-label="As they are shaped">
      <table>
        <thead>
          <tr>
            <th v-for="c in page.columns" :key="c" :title="told[c]" :class="{ number: numbers?.includes(c) }">{{ c }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(r, i) in page.items" :key="i">
            <td v-if="r.became !== 'kept'" :colspan="page.columns.length" class="quiet">{{ r.became }}</td>
            <td v-for="(v, c) in r.values" v-else :key="c" :class="{ lost: lost(r, c), number: numbers?.includes(page.columns[c]) }" :title="lost(r, c) ? told[page.columns[c]] : undefined">
              {{ v }}<template v-if="lost(r, c)">no value</template>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
  </div>
</template>

<style scoped>
.panes {
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(0, 1fr);
  gap: 12px;
  max-height: 30rem;
  overflow-y: auto;
}

.pane {
  overflow-x: auto;
  border: 1px solid rgb(var(--v-theme-surface-variant));
  background: rgb(var(--v-theme-surface));
  align-self: start;
}

table {
  border-collapse: collapse;
  font-size: 0.92em;
  min-width: 100%;
}

:is(th, td) {
  padding: 2px 8px;
  height: 26px;
  white-space: pre;
  text-align: left;
  max-width: 22em;
  overflow: hidden;
  text-overflow: ellipsis;
  border-bottom: 1px solid rgb(var(--v-theme-surface-variant));
}

.number {
  text-align: right;
}

.headline td {
  font-weight: 640;
}

.lost {
  background: rgba(var(--v-theme-warning), 0.2);
  font-style: italic;
}

@media (max-width: 820px) {
  .panes {
    grid-template-columns: minmax(0, 1fr);
    max-height: none;
  }
}
</style>
