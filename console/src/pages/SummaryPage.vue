<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute } from 'vue-router'

import SummaryTable from '../parts/SummaryTable.vue'
import TroubleNote from '../parts/TroubleNote.vue'
import WatchedValues from '../parts/WatchedValues.vue'
import { api, take, type Schemas } from '../use/api'
import { useEvent } from '../use/events'
import { useLoading } from '../use/loading'

const props = defineProps<{ input: string }>()
const route = useRoute()

const figures = ref<Schemas['Figures']>()
const receipt = computed(() => Number(route.query.receipt) || 0)
const { trouble, loaded, reload } = useLoading(async () => {
  figures.value = receipt.value
    ? await take(api.GET('/api/v1/receipts/{receipt}/figures', { params: { path: { receipt: receipt.value } } }))
    : await take(api.GET('/api/v1/inputs/{input}/figures', { params: { path: { input: props.input } } }))
})
watch([() => props.input, receipt], reload, { immediate: true })
useEvent<{ outcome: string }>('refresh', (e) => {
  if (e.outcome === 'delivered' && !receipt.value) void reload()
})
</script>

<template>
  <h1>Summary of {{ input }}</h1>
  <trouble-note :trouble="trouble" />
  <template v-if="figures">
    <p class="quiet">
      <router-link v-if="figures.input === input" :to="`/inputs/${input}`">{{ input }}</router-link> ·
      <router-link :to="`/receipts/${figures.receipt}`">receipt {{ figures.receipt }}</router-link>
      <template v-if="figures.before"> · against <router-link :to="{ query: { receipt: figures.before } }">receipt {{ figures.before }}</router-link></template> ·
      <router-link :to="`/inputs/${input}/table`">rows</router-link>
    </p>
    <summary-table v-for="t in figures.summaries" :key="t.name" :table="t" :before="figures.before" />
    <watched-values :columns="figures.watched" :before="figures.before" :input="receipt ? undefined : input" />
    <p v-if="loaded && !figures.summaries.length && !figures.watched.length" class="my-4">
      Nothing is summed up yet. Say what in the definition: <code>watch: true</code> on a column, and <code>summaries</code>.
    </p>
  </template>
</template>
