<script setup lang="ts">
import { ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import LogTable from '../parts/LogTable.vue'
import TroubleNote from '../parts/TroubleNote.vue'
import { api, take, type Schemas } from '../use/api'
import { useEvent } from '../use/events'
import { useLoading } from '../use/loading'

const props = defineProps<{ input: string }>()
const route = useRoute()
const router = useRouter()

const page = ref<Schemas['LogPage']>()
const { trouble, reload } = useLoading(async () => {
  page.value = await take(
    api.GET('/api/v1/inputs/{input}/log', { params: { path: { input: props.input }, query: { limit: 100, cursor: route.query.cursor as string | undefined } } }),
  )
})
watch([() => props.input, () => route.query.cursor], reload, { immediate: true })
useEvent<{ input: string }>('roster', (e) => {
  if (e.input === props.input && !route.query.cursor) void reload()
})
</script>

<template>
  <h1>Changes of {{ input }}</h1>
  <p class="quiet mb-3"><router-link :to="`/inputs/${input}`">the input</router-link> · every change there ever was, the newest first</p>
  <trouble-note :trouble="trouble" />
  <template v-if="page">
    <log-table :entries="page.items" :input="input" files />
    <v-btn v-if="route.query.cursor" variant="text" @click="router.back()">Newer</v-btn>
    <v-btn v-if="page.next" variant="text" @click="router.push({ query: { cursor: page.next } })">Older</v-btn>
  </template>
</template>
