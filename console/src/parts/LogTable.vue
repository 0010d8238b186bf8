<script setup lang="ts">
import type { Schemas } from '../use/api'
import { bytes, moment, word } from '../use/format'
import StateMark from './StateMark.vue'

defineProps<{ entries: Schemas['LogEntry'][]; input: string; files?: boolean }>()
</script>

<template>
  <div class="sheet">
    <table class="rows">
      <thead>
        <tr>
          <th>When</th>
          <th>Became</th>
          <th v-if="files">File</th>
          <th class="number">Size</th>
          <th>Why</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="e in entries" :key="e.id">
          <td data-label="When" class="when" :title="e.at">{{ moment(e.at) }}</td>
          <td data-label="Became">
            <div><state-mark :of="e.state || 'went'" /> <span v-if="e.before_state" class="quiet">was {{ word(e.before_state) }}</span></div>
          </td>
          <td v-if="files" data-label="File" class="path">
            <router-link :to="{ path: `/inputs/${input}/story`, query: { path: e.path } }">{{ e.path }}</router-link>
          </td>
          <td data-label="Size" class="number">
            {{ bytes(e.size) }}
            <div v-if="e.before_digest && e.digest !== e.before_digest" class="quiet">was {{ bytes(e.before_size) }}</div>
          </td>
          <td data-label="Why">{{ e.sentence }}</td>
        </tr>
        <tr v-if="entries.length === 0">
          <td colspan="5" class="quiet">Nothing has changed yet.</td>
        </tr>
      </tbody>
    </table>
  </div>
</template>
