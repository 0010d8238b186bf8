<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { api, take, type Schemas } from '../use/api'
import { count, number } from '../use/format'
import { useLoading } from '../use/loading'
import TroubleNote from './TroubleNote.vue'

const props = defineProps<{ input: string; path: string }>()

const page = ref<Schemas['RowPage']>()
const raw = ref(false)

const { trouble, reload } = useLoading(async () => {
  page.value = await take(api.GET('/api/v1/inputs/{input}/rows', { params: { path: { input: props.input }, query: { path: props.path, limit: 50 } } }))
})
watch(() => [props.input, props.path], reload, { immediate: true })

const width = computed(() => Math.max(0, ...(page.value?.items.map((r) => r.cells.length) ?? [])))
const shown = computed(() => (raw.value ? page.value?.items : page.value?.items.filter((r) => r.became === 'kept')) ?? [])
</script>

<template>
  <trouble-note :trouble="trouble" />
  <template v-if="page?.columns.length">
    <h2>Its rows</h2>
    <div class="bar">
      <div class="tabs">
        <button :aria-pressed="!raw" @click="raw = false">as they are shaped</button>
        <button :aria-pressed="raw" @click="raw = true">as they are in the file</button>
      </div>
      <span class="quiet">{{ count(page.rows_read, 'row') }} below the header, {{ number(page.rows_kept) }} kept; the first {{ number(page.items.length) }} are shown</span>
    </div>
    <p v-if="shown.length === 0" class="quiet">None is kept; see how they are in the file.</p>
    <div v-else class="sheet grid sideways">
      <table class="rows">
        <thead>
          <tr>
            <th class="number">Row</th>
            <template v-if="raw">
              <th>Became</th>
              <th v-for="n in width" :key="n" class="quiet">{{ n }}</th>
            </template>
            <th v-for="c in raw ? [] : page.columns" :key="c">{{ c }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="r in shown" :key="r.row" :class="{ quiet: raw && r.became !== 'kept' }">
            <td class="number quiet">{{ r.row }}</td>
            <td v-if="raw" class="became">{{ r.became }}</td>
            <td v-for="i in raw ? width : r.values.length" :key="i">{{ (raw ? r.cells : r.values)[i - 1] }}</td>
          </tr>
        </tbody>
      </table>
    </div>
  </template>
</template>

<style scoped>
.bar {
  display: flex;
  flex-wrap: wrap;
  gap: 6px 16px;
  align-items: center;
  margin-bottom: 8px;
}

.grid {
  max-height: 26rem;
  overflow: auto;
}

.grid td {
  white-space: pre;
}
</style>
