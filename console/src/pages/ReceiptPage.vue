<script setup lang="ts">
import { ref, watch } from 'vue'

import FindingList from '../parts/FindingList.vue'
import ReceiptTotals from '../parts/ReceiptTotals.vue'
import StateMark from '../parts/StateMark.vue'
import ReceiptMoves from '../parts/ReceiptMoves.vue'
import TroubleNote from '../parts/TroubleNote.vue'
import { api, take, type Receipt, type ReceiptFile, type Schemas } from '../use/api'
import { bytes, count, moment, number, whyLeftOut } from '../use/format'
import { useLoading } from '../use/loading'

const props = defineProps<{ receipt: string }>()

const shown = ref<Receipt>()
const files = ref<ReceiptFile[]>([])
const next = ref<string>()
const figures = ref<Schemas['Figures']>()

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
  replayed.value = undefined
  figures.value = await take(api.GET('/api/v1/receipts/{receipt}/figures', { params: { path: { receipt: Number(props.receipt) } } }))
})
watch(() => props.receipt, reload, { immediate: true })

const more = useLoading(() => page(next.value))

const verdict = (r: Schemas['Replay']) =>
  r.missing.length
    ? 'It cannot be replayed'
    : `Run again out of the vault, it comes to ${r.same ? 'the same' : 'something else'}: ${count(r.rows, 'row')}, ${count(r.deliveries.length, 'digest')} compared`

// All files are there to be printed and saved.
async function whole() {
  while (next.value) await page(next.value)
}
async function print() {
  await whole()
  setTimeout(() => window.print(), 50)
}
async function save() {
  await whole()
  const link = document.createElement('a')
  link.href = URL.createObjectURL(new Blob([JSON.stringify({ ...shown.value, list: files.value }, undefined, 2)], { type: 'application/json' }))
  link.download = `receipt-${props.receipt}.json`
  link.click()
  URL.revokeObjectURL(link.href)
}

const replayed = ref<Schemas['Replay']>()
const busy = ref(false)
const replay = useLoading(async () => {
  busy.value = true
  try {
    replayed.value = await take(api.POST('/api/v1/receipts/{receipt}/replay', { params: { path: { receipt: Number(props.receipt) } } }))
  } finally {
    busy.value = false
  }
})
</script>

<template>
  <trouble-note :trouble="trouble" />
  <template v-if="shown">
    <div class="top">
      <h1>Receipt {{ shown.number }}</h1>
      <div class="unprinted">
        <v-btn size="small" variant="tonal" :loading="busy" @click="replay.reload">Replay</v-btn>
        <v-btn size="small" variant="text" @click="save">Save as JSON</v-btn>
        <v-btn size="small" variant="text" @click="print">Print</v-btn>
      </div>
    </div>
    <p class="quiet">
      <template v-if="shown.inputs?.length">report {{ shown.input }}</template>
      <router-link v-else :to="`/inputs/${shown.input}`">{{ shown.input }}</router-link>, definition version {{ shown.definition_version }} · as of
      {{ moment(shown.as_of) }} · asked for by {{ shown.asked_by }} · made by jorvex {{ shown.program }} on {{ shown.machine }}
    </p>

    <p v-if="shown.only?.length || Object.keys(shown.parameters ?? {}).length" class="quiet">
      <template v-for="(value, name) in shown.parameters" :key="name">{{ name }} is {{ value }}. </template>
      <template v-if="shown.only?.length">Only these files, this once: {{ shown.only.join(', ') }}.</template>
    </p>

    <trouble-note :trouble="replay.trouble.value" />
    <v-alert v-if="replayed" :type="replayed.same ? 'success' : 'error'" class="my-3" :title="verdict(replayed)">
      <div v-for="d in replayed.deliveries.filter((d) => d.digest !== d.digest_had)" :key="d.kind + d.name">{{ d.kind }} {{ d.name }}: another digest</div>
      <div v-for="m in replayed.missing.slice(0, 5)" :key="m">{{ m }} is not in the vault any more</div>
    </v-alert>
    <receipt-totals :receipt="shown" />

    <receipt-moves v-if="shown.before" :receipt="shown.number" />
    <p v-if="figures && (figures.summaries.length || figures.watched.length)" class="mt-3 unprinted">
      <router-link :to="{ path: `/inputs/${shown.inputs?.[0]?.input ?? shown.input}/summary`, query: { receipt: shown.number } }">Its summaries and watched values</router-link>
    </p>

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
                <div v-if="f.use === 'last_good'" class="text-warning">{{ f.why }}</div>
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
.top {
  display: flex;
  justify-content: space-between;
  gap: 12px;
  flex-wrap: wrap;
}

.left-out {
  margin-bottom: 8px;
}

.pad {
  padding: 10px 12px;
}
</style>
