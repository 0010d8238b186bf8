<script setup lang="ts">
import { computed } from 'vue'

import type { Receipt } from '../use/api'
import { bytes, count, decimal, number, signed, word } from '../use/format'

const props = defineProps<{ receipt: Receipt; rehearsed?: boolean }>()

const totals = computed(() => {
  const r = props.receipt
  return [
    { column: 'rows', sum: number(r.rows), moved: r.before ? signed(r.rows_moved ?? 0) : '' },
    ...r.totals.map((t) => ({ column: t.column, sum: decimal(t.sum), moved: decimal(t.moved ?? '') })),
  ]
})
</script>

<template>
  <div class="columns">
    <section>
      <h2>{{ rehearsed ? 'What it would come to' : 'What it came to' }}</h2>
      <div class="sheet">
        <table class="rows">
          <thead>
            <tr>
              <th>Total</th>
              <th class="number">{{ rehearsed ? 'Then' : 'Now' }}</th>
              <th class="number">
                <router-link v-if="receipt.before" :to="`/receipts/${receipt.before}`">Since receipt {{ receipt.before }}</router-link>
              </th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="t in totals" :key="t.column">
              <td data-label="Total">{{ t.column }}</td>
              <td data-label="Now" class="number">{{ t.sum }}</td>
              <td data-label="Moved" class="number">{{ t.moved }}</td>
            </tr>
          </tbody>
        </table>
      </div>
      <p v-for="i in receipt.inputs" :key="i.input" class="quiet mt-1">
        <router-link :to="`/inputs/${i.input}`">{{ i.input }}</router-link>: {{ count(i.rows, 'row') }} from {{ count(i.files, 'file') }}, definition version {{ i.definition_version
        }}<template v-if="i.not_used">, {{ number(i.not_used) }} not used</template>
      </p>
    </section>
    <section>
      <h2>{{ rehearsed ? 'What would be delivered' : 'What was delivered' }}</h2>
      <div class="sheet pad">
        <div v-for="d in receipt.deliveries" :key="d.kind + d.name" class="delivery">
          <b>{{ d.kind }}</b> <span class="path">{{ d.where }}</span>
          <div class="quiet">
            {{ count(d.rows, 'row') }}<template v-if="d.bytes">, {{ bytes(d.bytes) }}</template>
          </div>
          <div class="digest quiet">{{ d.digest }}</div>
        </div>
        <div v-if="receipt.deliveries.length === 0" class="quiet">Nothing; no delivery is declared.</div>
      </div>
      <template v-if="receipt.handed_over?.length || receipt.handover">
        <h2>{{ rehearsed ? 'Then handed over' : 'Handed over' }}</h2>
        <div class="sheet pad">
          <p v-if="!receipt.handed_over?.length">The files that fed: {{ receipt.handover }}.</p>
          <details v-else>
            <summary>{{ count(receipt.handed_over.filter((h) => h.state === 'done').length, 'file') }}: {{ receipt.handover }}</summary>
            <p v-for="h in receipt.handed_over" :key="h.path" class="path">{{ h.path }} <template v-if="h.target">→ {{ h.target }}</template></p>
          </details>
          <p v-for="h in receipt.handed_over?.filter((h) => h.state !== 'done')" :key="h.path" class="text-warning path">{{ h.path }}: {{ h.problem || word(h.state) }}</p>
        </div>
      </template>
    </section>
  </div>
  <ul v-if="receipt.passed?.length" class="passed" aria-label="What the gate let pass">
    <li v-for="p in receipt.passed" :key="p.cause + p.says">
      <span class="text-warning">passed</span> {{ p.says }} <span class="quiet">(the gate answers {{ word(p.answer) }})</span>
    </li>
  </ul>
</template>

<style scoped>
.columns {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(340px, 100%), 1fr));
  gap: 0 20px;
}

.pad {
  padding: 10px 12px;
}

.delivery + .delivery {
  margin-top: 10px;
}

.passed {
  list-style: none;
  margin: 10px 0 0;
  padding: 0;
}
</style>
