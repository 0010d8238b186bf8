<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import FindingList from '../parts/FindingList.vue'
import StateMark from '../parts/StateMark.vue'
import ReceiptMoves from '../parts/ReceiptMoves.vue'
import TroubleNote from '../parts/TroubleNote.vue'
import { api, take, type Receipt, type ReceiptFile } from '../use/api'
import { bytes, count, decimal, moment, number, signed, whyLeftOut } from '../use/format'
import { useLoading } from '../use/loading'

const props = defineProps<{ receipt: string }>()

const shown = ref<Receipt>()
const files = ref<ReceiptFile[]>([])
const next = ref<string>()

async function page(cursor?: string) {
  const got = await take(
    api.GET('/api/v1/receipts/{receipt}/files', { params: { path: { receipt: Number(props.receipt) }, query: { limit: 100, cursor } } }),
  )
  files.value = cursor ? [...files.value, ...got.items] : got.items
  next.value = got.next
}

const { trouble, reload } = useLoading(async () => {
  shown.value = await take(api.GET('/api/v1/receipts/{receipt}', { params: { path: { receipt: Number(props.receipt) } } }))
  await page()
})
watch(() => props.receipt, reload, { immediate: true })

const more = useLoading(() => page(next.value))

const totals = computed(() => {
  const r = shown.value
  if (!r) return []
  return [
    { column: 'rows', sum: number(r.rows), moved: r.before ? signed(r.rows_moved ?? 0) : '' },
    ...r.totals.map((t) => ({ column: t.column, sum: decimal(t.sum), moved: decimal(t.moved ?? '') })),
  ]
})
</script>

<template>
  <trouble-note :trouble="trouble" />
  <template v-if="shown">
    <h1>Receipt {{ shown.number }}</h1>
    <p class="quiet">
      <router-link :to="`/inputs/${shown.input}`">{{ shown.input }}</router-link>, definition version {{ shown.definition_version }} · as of
      {{ moment(shown.as_of) }} · asked for by {{ shown.asked_by }} · made by jorvex {{ shown.program }} on {{ shown.machine }}
    </p>

    <p v-if="shown.only?.length || Object.keys(shown.parameters ?? {}).length" class="quiet">
      <template v-for="(value, name) in shown.parameters" :key="name">{{ name }} is {{ value }}. </template>
      <template v-if="shown.only?.length">Only these files, this once: {{ shown.only.join(', ') }}.</template>
    </p>

    <div class="columns">
      <section>
        <h2>What it came to</h2>
        <div class="sheet">
          <table class="rows">
            <thead>
              <tr>
                <th>Total</th>
                <th class="number">Now</th>
                <th class="number">
                  <router-link v-if="shown.before" :to="`/receipts/${shown.before}`">Since receipt {{ shown.before }}</router-link>
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
      </section>
      <section>
        <h2>What was delivered</h2>
        <div class="sheet pad">
          <div v-for="d in shown.deliveries" :key="d.kind + d.name" class="delivery">
            <b>{{ d.kind }}</b> <span class="path">{{ d.where }}</span>
            <div class="quiet">
              {{ count(d.rows, 'row') }}<template v-if="d.kind === 'file'">, {{ bytes(d.bytes) }}</template>
            </div>
            <div class="digest quiet">{{ d.digest }}</div>
          </div>
          <div v-if="shown.deliveries.length === 0" class="quiet">Nothing; the input declares no delivery.</div>
        </div>
      </section>
    </div>

    <receipt-moves v-if="shown.before" :receipt="shown.number" />

    <h2>
      {{ count(shown.files, 'file') }} fed it<template v-if="shown.not_used">, {{ number(shown.not_used) }} picked and not used</template>
    </h2>
    <p v-if="shown.left_out.length" class="quiet left-out">
      Left out: <template v-for="(l, i) in shown.left_out" :key="l.reason">{{ i ? ', ' : '' }}{{ number(l.files) }} {{ whyLeftOut(l.reason) }}</template>.
    </p>
    <div class="sheet">
      <table class="rows">
        <thead>
          <tr>
            <th>Use</th>
            <th>File</th>
            <th class="number">Rows</th>
            <th class="number">Size</th>
            <th>Modified</th>
            <th>Digest (SHA-256)</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="f in files" :key="f.path">
            <td data-label="Use"><state-mark :of="f.use" /></td>
            <td data-label="File" class="path">
              <div>
                {{ f.path }}
                <div v-if="f.held" class="text-warning">{{ f.held }}</div>
                <finding-list :findings="f.findings" />
              </div>
            </td>
            <td data-label="Rows" class="number">{{ number(f.rows_kept) }}</td>
            <td data-label="Size" class="number">{{ bytes(f.size) }}</td>
            <td data-label="Modified" class="when" :title="f.modified">{{ moment(f.modified) }}</td>
            <td data-label="Digest" class="digest" :title="f.digest">{{ f.digest.slice(0, 16) }}</td>
          </tr>
        </tbody>
      </table>
    </div>
    <p v-if="next" class="text-right mt-2"><v-btn variant="text" @click="more.reload">Show 100 more</v-btn></p>
    <trouble-note :trouble="more.trouble.value" />

    <h2>The chain</h2>
    <div class="sheet pad">
      <div>This receipt <span class="digest">{{ shown.digest }}</span></div>
      <div>The one before <span class="digest">{{ shown.previous }}</span></div>
      <div>Its list of files <span class="digest">{{ shown.files_digest }}</span></div>
      <div class="quiet mt-2">Recompute the whole chain with <code>jorvex verify</code>.</div>
    </div>
  </template>
</template>

<style scoped>
.columns {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(340px, 100%), 1fr));
  gap: 0 20px;
}

.left-out {
  margin-bottom: 8px;
}

.pad {
  padding: 10px 12px;
}

.delivery + .delivery {
  margin-top: 10px;
}
</style>
