<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { api, take, type Schemas } from '../use/api'
import { count, number } from '../use/format'

const props = defineProps<{ input: string; path: string }>()

const shown = ref<Schemas['VersionDifferences']>()

watch(
  () => [props.input, props.path],
  async () => {
    try {
      shown.value = await take(api.GET('/api/v1/inputs/{input}/file-differences', { params: { path: { input: props.input }, query: { path: props.path } } }))
    } catch {
      shown.value = undefined // there is one version alone
    }
  },
  { immediate: true },
)

const columns = computed(() => {
  const d = shown.value
  if (!d) return ''
  const parts = d.columns_respelt.map((r) => `${r.before} is now written ${r.after}`)
  if (d.columns_added.length) parts.push(`columns added: ${d.columns_added.join(', ')}`)
  if (d.columns_gone.length) parts.push(`columns gone: ${d.columns_gone.join(', ')}`)
  return parts.join(' · ')
})
</script>

<template>
  <template v-if="shown">
    <h2>Against the version before</h2>
    <p v-if="shown.before.broken || shown.after.broken">There are no rows to compare: {{ shown.before.broken || shown.after.broken }}</p>
    <p v-else>
      {{ count(shown.rows_added, 'row') }} added, {{ number(shown.rows_gone) }} gone, {{ number(shown.rows_altered) }} altered
    </p>
    <p v-if="columns" class="quiet">{{ columns }}</p>
    <div v-if="shown.items.length" class="sheet scroll sideways">
      <table class="rows">
        <thead>
          <tr>
            <th />
            <th v-for="c in shown.columns" :key="c">{{ c }}</th>
          </tr>
        </thead>
        <tbody>
          <template v-for="(r, i) in shown.items" :key="i">
            <tr v-if="r.before" class="quiet">
              <td>{{ r.after ? 'before' : 'gone' }}</td>
              <td v-for="(v, c) in r.before" :key="c" :class="{ other: r.after && r.after[c] !== v }">{{ v }}</td>
            </tr>
            <tr v-if="r.after">
              <td>{{ r.before ? 'after' : 'added' }}</td>
              <td v-for="(v, c) in r.after" :key="c" :class="{ other: r.before && r.before[c] !== v }">{{ v }}</td>
            </tr>
          </template>
        </tbody>
      </table>
    </div>
  </template>
</template>

<style scoped>
.scroll {
  max-height: 22rem;
  overflow-y: auto;
}

.other {
  font-weight: 640;
  background: rgba(var(--v-theme-warning), 0.2);
}
</style>
