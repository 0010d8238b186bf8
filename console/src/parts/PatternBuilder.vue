<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { joinToEnd, pattern, split, type Part } from '../use/parts'

const props = defineProps<{ path: string }>()
const emit = defineEmits<{ use: [pattern: string]; close: [] }>()

const parts = ref<Part[]>([])
const chosen = ref<number>()
watch(
  () => props.path,
  (path) => {
    parts.value = split(path)
    chosen.value = undefined
  },
  { immediate: true },
)

const made = computed(() => pattern(parts.value))
const part = computed(() => (chosen.value === undefined ? undefined : parts.value[chosen.value]))

function be(as: Part['as']) {
  const p = part.value!
  p.as = as
  if (as === 'varies' && !p.name) p.name = 'name'
  if (as === 'number' && !p.name) p.name = 'number'
  if (as === 'date' && !p.form) p.form = 'yyyy-MM-dd'
  if (as === 'date' && !p.name) p.name = 'day'
}

function extend() {
  parts.value = joinToEnd(parts.value, chosen.value!)
}
</script>

<template>
  <div class="builder" role="group" aria-label="Build a pattern from an example">
    <p class="quiet">Press a part of the example and say what it stands for.</p>
    <p class="parts">
      <template v-for="(p, i) in parts" :key="i">
        <span v-if="p.as === 'separator'">{{ p.text }}</span>
        <button v-else type="button" :class="[p.as, { chosen: i === chosen }]" :aria-pressed="i === chosen" @click="chosen = i">
          {{ p.text }}
        </button>
      </template>
    </p>
    <div v-if="part" class="choice">
      <label><input type="radio" :checked="part.as === 'itself'" @change="be('itself')" /> always “{{ part.text }}”</label>
      <label>
        <input type="radio" :checked="part.as === 'varies'" @change="be('varies')" /> varies; call it
        <input v-model="part.name" class="name" aria-label="Name of the capture" @focus="be(part.as === 'itself' || part.as === 'any' ? 'varies' : part.as)" />
      </label>
      <label v-if="part.form || /^\d+$/.test(part.text)">
        <input type="radio" :checked="part.as === 'date'" @change="be('date')" /> is a date, written
        <input v-model="part.form" class="name" aria-label="Form of the date" placeholder="yyyy-MM-dd" />
      </label>
      <label v-if="/^\d+$/.test(part.text)"><input type="radio" :checked="part.as === 'number'" @change="be('number')" /> is a number</label>
      <label><input type="radio" :checked="part.as === 'any'" @change="be('any')" /> may be anything</label>
      <button type="button" class="link" @click="extend">take what follows, up to the end of the name, along</button>
    </div>
    <p><code class="made">{{ made }}</code></p>
    <v-btn size="small" color="primary" @click="emit('use', made)">Add this pattern</v-btn>
    <v-btn size="small" variant="text" @click="emit('close')">Close</v-btn>
  </div>
</template>

<style scoped>
.builder {
  border: 1px solid rgb(var(--v-theme-surface-variant));
  border-left: 3px solid rgb(var(--v-theme-primary));
  padding: 10px 12px;
  margin: 8px 0;
}

.parts {
  margin: 6px 0;
  overflow-wrap: anywhere;
  font-size: 1.05rem;
}

.parts button {
  padding: 1px 4px;
  border: 1px dashed rgb(var(--v-theme-secondary));
}

.parts button.chosen {
  border-style: solid;
  background: rgba(var(--v-theme-primary), 0.12);
}

.parts button.varies,
.parts button.date,
.parts button.number,
.parts button.any {
  border-style: solid;
  background: rgb(var(--v-theme-primary));
  color: rgb(var(--v-theme-on-primary));
}

.choice {
  display: flex;
  flex-direction: column;
  align-items: flex-start;
  gap: 4px;
  margin-bottom: 8px;
}

.name {
  width: 9em;
}

.link {
  color: rgb(var(--v-theme-primary));
  text-decoration: underline;
}

.made {
  overflow-wrap: anywhere;
}
</style>
