<script setup lang="ts">
import { mdiAlertCircleOutline, mdiCheck, mdiMinus, mdiPlus, mdiTilde } from '@mdi/js'
import { computed } from 'vue'

import type { Schemas } from '../use/api'
import { count, number } from '../use/format'

const props = defineProps<{ map: Schemas['ColumnMap'] }>()
defineEmits<{ choose: [path: string] }>()

const most = 8
const variants = computed(() => props.map.variants.slice(0, most))
const marks: Record<string, string> = { same: mdiCheck, respelt: mdiTilde, absent: mdiMinus, extra: mdiPlus }
</script>

<template>
  <section aria-label="Column map">
    <h2>Columns across the files</h2>
    <p class="quiet">
      {{ count(map.files_read, 'file') }}<template v-if="map.files_read < map.files_picked"> of {{ number(map.files_picked) }}</template> read, those that fit alike together
    </p>
    <div class="sheet sideways">
      <table class="rows">
        <thead>
          <tr>
            <th>Column</th>
            <th v-for="v in variants" :key="v.first[0]">
              <button type="button" class="link" :title="v.first.join('\n')" @click="$emit('choose', v.first[0])">{{ count(v.files, 'file') }}</button>
              <div class="quiet name">{{ v.first[0].split('/').at(-1) }}</div>
            </th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(row, i) in map.rows" :key="row.column + row.headers[0]" :class="{ quiet: !row.column }">
            <td>
              {{ row.column || row.headers[0] }}
              <span v-if="!row.column">(not declared)</span>
              <span v-else-if="row.required" class="quiet">required</span>
            </td>
            <td v-for="v in variants" :key="v.first[0]">
              <span v-if="v.broken && i === 0" class="broken"><v-icon :icon="mdiAlertCircleOutline" size="16" color="error" /> {{ v.broken }}</span>
              <span v-else-if="v.cells[i].fit === 'absent' && !row.column" />
              <span v-else-if="marks[v.cells[i].fit]" :class="v.cells[i].fit">
                <v-icon :icon="marks[v.cells[i].fit]" size="16" /> {{ v.cells[i].fit === 'respelt' ? `as ${v.cells[i].written}` : v.cells[i].fit }}
              </span>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <p v-if="map.variants.length > most" class="quiet">{{ count(map.variants.length - most, 'more group') }} of files; <code>jorvex columns -csv</code> lists them.</p>
  </section>
</template>

<style scoped>
.name {
  font-weight: 400;
  max-width: 14em;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}

.same {
  color: rgba(var(--v-theme-on-surface), 0.72);
}

.absent {
  color: rgb(var(--v-theme-error));
}

.broken {
  font-size: 0.92em;
}
</style>
