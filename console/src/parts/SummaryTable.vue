<script setup lang="ts">
import { computed, ref } from 'vue'

import type { Schemas } from '../use/api'
import { crosstab, group, moved, numeric } from '../use/crosstab'
import { count, decimal } from '../use/format'

const props = defineProps<{ table: Schemas['SummaryTable']; before?: number }>()

const x = computed(() => crosstab(props.table))
const charted = computed(() => props.table.measures.map((m, i) => ({ m, i })).filter(({ m }) => numeric(m)))
const measure = ref(-1)
const chosen = computed(() => (measure.value < 0 ? ((charted.value.find(({ m }) => m.startsWith('sum ')) ?? charted.value.at(-1))?.i ?? -1) : measure.value))

// The chart tells the first groups down, in all.
const bars = computed(() => {
  const at = chosen.value
  if (at < 0) return []
  const all = x.value.lines
    .filter((l) => l.rows.length === 1)
    .map((l) => {
      const cell = l.cells.at(-1)
      return { name: group(l.rows[0]), text: cell?.values[at] ?? '', now: Number(cell?.values[at] || 0), was: cell?.before ? Number(cell.before[at] || 0) : undefined }
    })
  const most = Math.max(...all.map((b) => Math.max(b.now, b.was ?? 0)), 0)
  return most > 0 ? all.slice(0, 30).map((b) => ({ ...b, width: (100 * Math.max(b.now, 0)) / most, mark: b.was === undefined ? undefined : (100 * Math.max(b.was, 0)) / most })) : []
})
const shown = (m: string, v: string) => (numeric(m) ? decimal(v) : v)
</script>

<template>
  <section :aria-label="table.name">
    <h2>{{ table.name }}</h2>
    <div v-if="bars.length" class="chart" role="img" :aria-label="`${table.measures[chosen]} by ${table.rows[0]}: ${bars.map((b) => `${b.name} ${decimal(b.text)}`).join(', ')}`">
      <div class="head">
        <label v-if="charted.length > 1" class="quiet">
          Chart of
          <select :value="chosen" @change="(e) => (measure = Number((e.target as HTMLSelectElement).value))">
            <option v-for="c in charted" :key="c.i" :value="c.i">{{ c.m }}</option>
          </select>
        </label>
        <span v-else class="quiet">{{ table.measures[chosen] }}</span>
        <span v-if="before && bars.some((b) => b.mark !== undefined)" class="quiet"><span class="key" /> as of receipt {{ before }}</span>
      </div>
      <div v-for="b in bars" :key="b.name" class="bar">
        <span class="name" :title="b.name">{{ b.name }}</span>
        <span class="room">
          <span class="fill" :style="{ width: `${b.width}%` }" />
          <span v-if="b.mark !== undefined" class="was" :style="{ left: `${b.mark}%` }" />
        </span>
        <span class="figure">{{ decimal(b.text) }}</span>
      </div>
    </div>
    <div class="sheet sideways cross">
      <table class="rows">
        <thead>
          <tr v-if="table.columns.length && table.measures.length > 1">
            <th :colspan="table.rows.length" />
            <th v-for="a in x.across" :key="a.join('/')" :colspan="table.measures.length" class="number">{{ a.length ? a.map(group).join(' ') : 'all' }}</th>
          </tr>
          <tr>
            <th v-for="r in table.rows" :key="r">{{ r }}</th>
            <template v-for="a in x.across" :key="a.join('/')">
              <th v-for="m in table.measures" :key="m" class="number">
                {{ table.columns.length && table.measures.length === 1 ? (a.length ? a.map(group).join(' ') : 'all') : m }}
              </th>
            </template>
          </tr>
        </thead>
        <tbody>
          <tr v-for="l in x.lines" :key="l.rows.join('/')" :class="{ sub: l.rows.length < table.rows.length }">
            <td v-for="(r, i) in table.rows" :key="r" class="group">
              {{ i < l.rows.length ? (i < l.rows.length - 1 ? '' : group(l.rows[i])) : i === l.rows.length ? (l.rows.length ? '' : 'all') : '' }}
            </td>
            <template v-for="(c, i) in l.cells" :key="i">
              <td v-for="(m, j) in table.measures" :key="m" class="number">
                <template v-if="c">
                  {{ shown(m, c.values[j]) }}
                  <div v-if="numeric(m) && moved(c.values[j], c.before?.[j])" class="moved">{{ decimal(moved(c.values[j], c.before?.[j])) }}</div>
                </template>
              </td>
            </template>
          </tr>
        </tbody>
      </table>
    </div>
    <p v-if="table.beyond" class="quiet">{{ count(table.beyond, 'row') }} in more groups than are told.</p>
  </section>
</template>

<style scoped>
.chart {
  max-width: 760px;
  margin-bottom: 10px;
}

.head {
  display: flex;
  gap: 18px;
  align-items: center;
  margin-bottom: 4px;
  flex-wrap: wrap;
}

.key {
  display: inline-block;
  width: 3px;
  height: 13px;
  background: rgb(var(--v-theme-secondary));
  vertical-align: -2px;
}

.bar {
  display: grid;
  grid-template-columns: minmax(5em, 10em) minmax(0, 1fr) minmax(5em, auto);
  gap: 10px;
  align-items: center;
}

.name {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}

.room {
  position: relative;
  height: 15px;
  background: rgba(var(--v-theme-on-surface), 0.05);
}

.fill {
  position: absolute;
  inset: 0 auto 0 0;
  background: rgba(var(--v-theme-primary), 0.65);
}

.was {
  position: absolute;
  top: -2px;
  bottom: -2px;
  width: 3px;
  margin-left: -1px;
  background: rgb(var(--v-theme-secondary));
}

.figure {
  text-align: right;
  font-variant-numeric: tabular-nums;
}

.cross {
  max-height: 34rem;
  overflow: auto;
}

.cross td {
  padding: 3px 12px;
}

.cross .group {
  white-space: nowrap;
}

.sub td {
  font-weight: 600;
}

.moved {
  font-size: 0.82em;
  font-weight: 400;
  color: rgba(var(--v-theme-on-surface), 0.72);
}
</style>
