<script setup lang="ts">
import { ref, watch } from 'vue'

import { api, take, type Schemas } from '../use/api'
import { count, decimal, number, signed } from '../use/format'
import { useLoading } from '../use/loading'
import TroubleNote from './TroubleNote.vue'

const props = defineProps<{ receipt: number }>()

const shown = ref<Schemas['ReceiptComparison']>()
const { trouble, reload } = useLoading(async () => {
  shown.value = await take(api.GET('/api/v1/receipts/{receipt}/comparison', { params: { path: { receipt: props.receipt } } }))
})
watch(() => props.receipt, reload, { immediate: true })

const moved = (f: Schemas['FileMove'], column: string) => decimal(f.totals.find((t) => t.column === column)?.moved ?? '')
</script>

<template>
  <section aria-label="What moved it">
    <h2>What moved it</h2>
    <trouble-note :trouble="trouble" />
    <template v-if="shown">
      <p class="quiet">
        Against <router-link :to="`/receipts/${shown.before}`">receipt {{ shown.before }}</router-link>:
        {{ ['in', 'out', 'changed', 'moved', 'same'].filter((c) => shown!.counts[c]).map((c) => `${number(shown!.counts[c])} ${c}`).join(', ') }}
        <template v-if="shown.other_definition"> · the definition is another one</template>
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
      <p v-if="shown.items.length >= 200" class="quiet">The first {{ count(shown.items.length, 'file') }}; <code>jorvex compare {{ receipt }} -csv -most 10000</code> lists more.</p>
    </template>
  </section>
</template>

<style scoped>
.moves {
  max-height: 24rem;
  overflow-y: auto;
}
</style>
