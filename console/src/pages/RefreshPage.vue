<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import ReceiptMoves from '../parts/ReceiptMoves.vue'
import ReceiptTotals from '../parts/ReceiptTotals.vue'
import RunningRefresh from '../parts/RunningRefresh.vue'
import StateMark from '../parts/StateMark.vue'
import SummaryTable from '../parts/SummaryTable.vue'
import TroubleNote from '../parts/TroubleNote.vue'
import WatchedValues from '../parts/WatchedValues.vue'
import { api, take, type Refresh, type Schemas } from '../use/api'
import { useEvent } from '../use/events'
import { moment, word } from '../use/format'
import { useLoading } from '../use/loading'

const props = defineProps<{ refresh: string }>()

const shown = ref<Refresh>()
const figures = ref<Schemas['Figures']>()
const { trouble, reload } = useLoading(async () => {
  const path = { refresh: Number(props.refresh) }
  shown.value = await take(api.GET('/api/v1/refreshes/{refresh}', { params: { path } }))
  figures.value = shown.value.rehearsal ? await take(api.GET('/api/v1/refreshes/{refresh}/figures', { params: { path } })) : undefined
})
watch(() => props.refresh, reload, { immediate: true })
useEvent<Refresh>('refresh', (r) => {
  if (String(r.id) !== props.refresh) return
  if (r.outcome === 'running' && shown.value) shown.value = { ...shown.value, ...r }
  else void reload()
})

const underway = computed(() => shown.value?.outcome === 'running' || shown.value?.outcome === 'waiting')
const rehearsal = computed(() => shown.value?.request?.rehearse)
const asked = computed(() => {
  const r = shown.value?.request
  return [...Object.entries(r?.set ?? {}).map(([name, value]) => `${name} is ${value}`), ...(r?.accept ?? []).map((a) => `a person accepted: ${word(a)}`), ...(r?.only?.length ? [`only ${r.only.join(', ')}`] : [])]
})
</script>

<template>
  <trouble-note :trouble="trouble" />
  <template v-if="shown">
    <h1>{{ rehearsal ? 'Rehearsal' : 'Refresh' }} {{ shown.id }} of {{ shown.input }}</h1>
    <p class="quiet">
      <state-mark :of="shown.outcome" /> · asked for by {{ shown.asked_by }} at {{ moment(shown.asked_at) }} · as of {{ moment(shown.as_of) }}
      <template v-if="!shown.report"> · <router-link :to="`/inputs/${shown.input}`">{{ shown.input }}</router-link></template>
      <template v-if="shown.rehearsal">
        · rows of
        <template v-for="(i, n) in shown.rehearsal.inputs?.map((s) => s.input) ?? [shown.input]" :key="i">
          <template v-if="n">, </template><router-link :to="{ path: `/inputs/${i}/table`, query: { rehearsal: shown.id } }">{{ i }}</router-link>
        </template>
      </template>
      <template v-if="shown.receipt"> · <router-link :to="`/receipts/${shown.receipt}`">receipt {{ shown.receipt }}</router-link></template>
    </p>
    <p v-if="asked.length" class="quiet">{{ asked.join('. ') }}.</p>
    <div v-if="underway" class="my-3"><running-refresh :refresh="shown" /></div>
    <v-alert v-if="shown.problem" :type="shown.outcome === 'cancelled' ? 'info' : 'error'" class="my-3" :title="shown.problem">
      <ul v-if="shown.stopped_by.length > 1">
        <li v-for="f in shown.stopped_by" :key="f.path">{{ f.path }}: {{ f.finding.sentence }}</li>
      </ul>
      <template v-if="shown.next">What would let it pass: {{ shown.next }}</template>
    </v-alert>
    <template v-if="shown.rehearsal">
      <v-alert type="info" class="my-3" title="Nothing was delivered, and no source file was touched." />
      <receipt-totals :receipt="shown.rehearsal" rehearsed />
      <receipt-moves :rehearsal="shown.id" />
      <template v-if="figures">
        <watched-values :columns="figures.watched" :before="figures.before" />
        <summary-table v-for="t in figures.summaries" :key="t.name" :table="t" :before="figures.before" />
      </template>
    </template>
  </template>
</template>
