<script setup lang="ts">
import { onMounted, ref } from 'vue'

import { api, take, type Schemas, type Trouble } from '../use/api'
import { bytes, count } from '../use/format'
import TroubleNote from './TroubleNote.vue'

const kept = ref<Schemas['Retention']>()
const freed = ref<Schemas['Retention']>()
const days = ref('')
const newest = ref('')
const connections = ref<Schemas['Connection'][]>([])
const trouble = ref<Trouble>()

async function act(ask: () => Promise<void>) {
  trouble.value = undefined
  try {
    await ask()
  } catch (e) {
    trouble.value = e as Trouble
  }
}
onMounted(() =>
  act(async () => {
    kept.value = await take(api.GET('/api/v1/retention'))
    days.value = kept.value.days ? String(kept.value.days) : ''
    newest.value = kept.value.count ? String(kept.value.count) : ''
    connections.value = (await take(api.GET('/api/v1/connections'))).items
  }),
)

const bounds = () => ({ days: Number(days.value) || 0, count: Number(newest.value) || 0 })
const ask = () => act(async () => void (freed.value = await take(api.GET('/api/v1/retention', { params: { query: bounds() } }))))
const set = () =>
  act(async () => {
    const lost = freed.value?.lost.map((l) => `${count(l.receipts, 'receipt')} of ${l.input}`).join(', ')
    if (freed.value?.objects && !window.confirm(`Free ${count(freed.value.objects, 'object')}?${lost ? ` Then ${lost} can no longer be replayed.` : ''}`)) return
    kept.value = await take(api.PUT('/api/v1/retention', { body: bounds() }))
    freed.value = undefined
  })
</script>

<template>
  <h2>What the vault keeps</h2>
  <trouble-note :trouble="trouble" />
  <template v-if="kept">
    <p class="quiet">
      The bytes that fed
      {{ kept.days || kept.count ? `receipts ${[kept.days && `younger than ${count(kept.days, 'day')}`, kept.count && `among the newest ${kept.count} of an input`].filter(Boolean).join(', or ')}` : 'any receipt' }}.
      Lists of files and figures are kept for good.
    </p>
    <p class="line">
      <label>younger than <input v-model="days" class="short" inputmode="numeric" placeholder="all" /> days</label>
      <label>or the newest <input v-model="newest" class="short" inputmode="numeric" placeholder="all" /> of each input</label>
      <v-btn size="small" variant="tonal" @click="ask">What would that free?</v-btn>
      <v-btn v-if="freed" size="small" color="primary" @click="set">Set it, and free that now</v-btn>
    </p>
    <p v-if="freed">
      {{ count(freed.objects, 'object') }}, {{ bytes(freed.bytes) }} on the disk.
      <template v-for="l in freed.lost" :key="l.input">{{ count(l.receipts, 'receipt') }} of {{ l.input }}, up to {{ l.last }}, can then no longer be replayed. </template>
    </p>
  </template>
  <template v-if="connections.length">
    <h2>Other databases</h2>
    <p v-for="c in connections" :key="c.name">{{ c.name }}: {{ c.address }}, <span class="quiet">{{ c.server }}</span></p>
  </template>
</template>

<style scoped>
.line {
  display: flex;
  flex-wrap: wrap;
  gap: 8px 16px;
  align-items: center;
  margin: 8px 0;
}

.short {
  width: 5em;
}
</style>
