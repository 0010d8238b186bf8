<script setup lang="ts">
import type { Finding } from '../use/api'

defineProps<{ findings: Finding[] }>()
</script>

<template>
  <ul v-if="findings.length" class="findings">
    <li v-for="f in findings" :key="f.code + f.column + f.row" :title="f.suggest">
      <b :class="{ 'text-error': f.grade === 'broken', 'text-warning': f.grade === 'warning' }">{{ f.grade }}</b>
      {{ f.sentence }}
    </li>
  </ul>
</template>

<style scoped>
.findings {
  margin: 2px 0 0;
  padding: 0;
  list-style: none;
}
</style>
