<script setup lang="ts">
import type { Finding } from '../use/api'

defineProps<{ findings: Finding[] }>()
</script>

<template>
  <ul v-if="findings.length" class="notes" aria-label="About the set of files">
    <li v-for="f in findings" :key="f.code + f.sentence">
      <b :class="{ 'text-error': f.grade === 'broken', 'text-warning': f.grade === 'warning' }">{{ f.grade }}</b>
      {{ f.sentence }}; <span class="quiet">{{ f.suggest }}</span>
    </li>
  </ul>
</template>

<style scoped>
.notes {
  list-style: none;
  padding: 0;
  margin: 0 0 10px;
}
</style>
