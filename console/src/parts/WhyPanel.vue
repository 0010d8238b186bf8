<script setup lang="ts">
import { ref, watch } from 'vue'

import { api, take, type Explanation, type Trouble } from '../use/api'
import FindingList from './FindingList.vue'
import StateMark from './StateMark.vue'
import TroubleNote from './TroubleNote.vue'

const props = defineProps<{ input: string; path: string }>()

const explanation = ref<Explanation>()
const trouble = ref<Trouble>()

watch(
  () => props.path,
  async (path) => {
    try {
      explanation.value = await take(api.GET('/api/v1/inputs/{input}/why', { params: { path: { input: props.input }, query: { path } } }))
    } catch (e) {
      trouble.value = e as Trouble
    }
  },
  { immediate: true },
)
</script>

<template>
  <trouble-note :trouble="trouble" />
  <div v-if="explanation" class="why">
    <ol>
      <li v-for="step in explanation.steps" :key="step.rule" :class="{ decides: step.decides }">
        <span class="rule">{{ step.rule }}</span>
        <span v-if="step.line" class="quiet"> (line {{ step.line }})</span>: {{ step.says }}
      </li>
    </ol>
    <p>So it is <state-mark :of="explanation.verdict" />: {{ explanation.sentence }}.</p>
    <finding-list :findings="explanation.findings" />
  </div>
</template>

<style scoped>
.why {
  padding: 4px 0 8px;
}

ol {
  margin: 0 0 8px;
  padding-left: 22px;
}

.rule {
  font-weight: 600;
}

.decides {
  font-weight: 600;
}
</style>
