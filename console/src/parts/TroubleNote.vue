<script setup lang="ts">
import type { Trouble } from '../use/api'

defineProps<{ trouble: Trouble | undefined }>()
</script>

<template>
  <v-alert v-if="trouble" type="error" class="my-3" :title="trouble.detail">
    <template v-if="trouble.next">{{ trouble.next }}</template>
  </v-alert>
</template>
