<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { api, take, type Schemas } from '../use/api'
import { group } from '../use/crosstab'
import { count, decimal, number, signed } from '../use/format'
import { useLoading } from '../use/loading'
import TroubleNote from './TroubleNote.vue'

// Of a receipt, or of a rehearsal by its refresh.
const props = defineProps<{ receipt?: number; rehearsal?: number }>()

const shown = ref<Schemas['ReceiptComparison']>()
const { trouble, reload } = useLoading(async () => {
  shown.value = props.rehearsal
    ? await take(api.GET('/api/v1/refreshes/{refresh}/comparison', { params: { path: { refresh: props.rehearsal } } }))
    : await take(api.GET('/api/v1/receipts/{receipt}/comparison', { params: { path: { receipt: props.receipt ?? 0 } } }))
})
watch([() => props.receipt, () => props.rehearsal], reload, { immediate: true })

// Watched values that moved, by column: how many rows more or fewer have each.
const watched = computed(() => {
  const columns: { column: string; values: Schemas['WatchedMove'][] }[] = []
  for (const w of shown.value?.watched ?? []) {
    if (columns.at(-1)?.column !== w.column) columns.push({ column: w.column, values: [] })
    columns.at(-1)!.values.push(w)
  }
  return columns
})

const moved = (f: Schemas['FileMove'], column: string) => decimal(f.totals.find((t) => t.column === column)?.moved ?? '')
</script>

<template>
  <section :aria-label="rehearsal ? 'What would move it' : 'What moved it'">
    <h2>{{ rehearsal ? 'What would move it' : 'What moved it' }}</h2>
    <trouble-note :trouble="trouble" />
    <template v-if="shown">
      <p class="quiet">
        <template v-if="shown.before">Against <router-link :to="`/receipts/${shown.before}`">receipt {{ shown.before }}</router-link>: </template>
        {{ ['in', 'out', 'changed', 'moved', 'same'].filter((c) => shown!.counts[c]).map((c) => `${number(shown!.counts[c])} ${c}`).join(', ') }}
        <template v-if="shown.other_definition"> · the definition is another one</template>
      </p>
      <p v-for="w in watched" :key="w.column" class="watched">
        <span class="quiet">{{ w.column }}</span>
        <span v-for="v in w.values.slice(0, 20)" :key="v.value">
          {{ group(v.value) }} <b>{{ signed(v.rows_after - v.rows_before) }}</b>
          <span v-if="v.rows_before === 0" class="text-success"> gained</span><span v-if="v.rows_after === 0" class="text-error"> lost</span>
        </span>
        <span v-if="w.values.length > 20">and {{ number(w.values.length - 20) }} more</span>
      </p>
      <div v-if="shown.items.length" class="sheet sideways moves">
        <table class="rows">
          <thead>
            <tr>
              <th>Change</th>
              <th>File</th>
              <th class="number">Rows</th>
              <th v-for="t in shown.totals" :key="t.column" class="number">{{ t.column }}</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="f in shown.items" :key="f.change + f.path">
              <td>{{ f.change }}</td>
              <td class="path">
                <router-link :to="{ path: `/inputs/${shown.input}/story`, query: { path: f.path } }">{{ f.path }}</router-link>
                <div v-if="f.from" class="quiet">from {{ f.from }}</div>
              </td>
              <td class="number">{{ f.rows_after === f.rows_before ? '' : signed(f.rows_after - f.rows_before) }}</td>
              <td v-for="t in shown.totals" :key="t.column" class="number">{{ moved(f, t.column) }}</td>
            </tr>
          </tbody>
        </table>
      </div>
      <p v-if="shown.items.length >= 200" class="quiet">The first {{ count(shown.items.length, 'file') }} <code v-if="receipt">jorvex compare {{ receipt }} -csv -most 10000</code>.</p>
    </template>
  </section>
</template>

<style scoped>
.watched {
  display: flex;
  flex-wrap: wrap;
  gap: 2px 18px;
  margin-bottom: 6px;
}

.moves {
  max-height: 24rem;
  overflow-y: auto;
}
</style>
