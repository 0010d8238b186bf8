<script setup lang="ts">
import { mdiContentSave, mdiRedo, mdiUndo } from '@mdi/js'

import type { Bench } from '../use/bench'
import type { Definition } from '../use/definition'

defineProps<{ input: string; what: 'Choose' | 'Read' | 'Refresh'; bench: Bench; definition: Definition; faults: { line: number; column: number; message: string }[] }>()
const asText = defineModel<boolean>('asText', { required: true })
</script>

<template>
  <div v-if="bench.saved.value" class="head">
    <div>
      <h1>{{ what === 'Refresh' ? 'Gate and schedule' : `${what} files` }}: {{ bench.saved.value.title }}</h1>
      <p class="quiet">
        <router-link :to="`/inputs/${input}`">{{ input }}</router-link> · version {{ bench.saved.value.version }} · nothing counts until it is saved ·
        <template v-if="what !== 'Choose'"><router-link :to="`/inputs/${input}/pick`">choose files</router-link> · </template>
        <template v-if="what !== 'Read'"><router-link :to="`/inputs/${input}/read`">read files</router-link> · </template>
        <template v-if="what !== 'Refresh'"><router-link :to="`/inputs/${input}/refreshing`">gate and schedule</router-link> · </template>
        <router-link :to="`/inputs/${input}/versions`">all versions</router-link>
      </p>
    </div>
    <div class="acts">
      <v-btn :icon="mdiUndo" variant="text" size="small" aria-label="Undo" :disabled="!definition.canUndo.value" @click="definition.undo()" />
      <v-btn :icon="mdiRedo" variant="text" size="small" aria-label="Redo" :disabled="!definition.canRedo.value" @click="definition.redo()" />
      <v-btn variant="tonal" size="small" @click="asText = !asText">{{ asText ? 'Show the fields' : 'Show the text' }}</v-btn>
      <v-btn
        color="primary"
        size="small"
        :prepend-icon="mdiContentSave"
        :disabled="!bench.changed.value || faults.length > 0 || !!definition.broken.value"
        @click="bench.save"
      >
        Save
      </v-btn>
    </div>
  </div>
  <v-alert v-if="bench.conflict.value" type="error" class="my-3" :title="bench.conflict.value.detail">
    {{ bench.conflict.value.next }}
    <router-link :to="`/inputs/${input}/versions`">See the versions</router-link>
  </v-alert>
  <v-alert v-if="bench.notice.value" type="success" class="my-3" :title="bench.notice.value" />
</template>

<style scoped>
.head {
  display: flex;
  justify-content: space-between;
  gap: 12px;
  flex-wrap: wrap;
  align-items: flex-start;
}

.acts {
  display: flex;
  gap: 8px;
  align-items: center;
}
</style>
