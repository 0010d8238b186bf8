<script setup lang="ts">
import { computed, ref } from 'vue'

import { api, take, type Refresh, type Trouble } from '../use/api'
import { bytes, count, number, span } from '../use/format'
import TroubleNote from './TroubleNote.vue'

const props = defineProps<{ refresh: Refresh }>()

const trouble = ref<Trouble>()
const share = computed(() => (props.refresh.bytes ? (100 * props.refresh.bytes_done) / props.refresh.bytes : 0))

// How long what is left takes, if it goes on as it did.
const left = computed(() => {
  const r = props.refresh
  if (!r.started || !r.bytes_done || r.bytes_done >= r.bytes) return ''
  const took = (Date.now() - new Date(r.started).getTime()) / 1000
  const seconds = (took * (r.bytes - r.bytes_done)) / r.bytes_done
  return seconds >= 2 ? `, some ${span(seconds)} left` : ''
})

async function cancel() {
  trouble.value = undefined
  try {
    await take(api.POST('/api/v1/refreshes/{refresh}/cancellation', { params: { path: { refresh: props.refresh.id } } }))
  } catch (e) {
    trouble.value = e as Trouble
  }
}
</script>

<template>
  <div class="running" role="status">
    <div class="grow">
      {{ refresh.stage }}: {{ number(refresh.files_done) }} of {{ count(refresh.files, 'file') }}, {{ bytes(refresh.bytes_done) }} of {{ bytes(refresh.bytes) }},
      {{ count(refresh.rows, 'row') }}{{ left }}
      <v-progress-linear :model-value="share" :indeterminate="refresh.stage !== 'reading'" color="primary" height="6" aria-label="Progress" />
    </div>
    <v-btn size="small" variant="text" @click="cancel">Cancel</v-btn>
  </div>
  <trouble-note :trouble="trouble" />
</template>

<style scoped>
.running {
  display: flex;
  gap: 12px;
  align-items: center;
  flex: 1;
  min-width: 240px;
}

.grow {
  flex: 1;
}
</style>
