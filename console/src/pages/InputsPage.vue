<script setup lang="ts">
import { onMounted, ref } from 'vue'

import StateMark from '../parts/StateMark.vue'
import TroubleNote from '../parts/TroubleNote.vue'
import { api, take, type Input } from '../use/api'
import { useEvent } from '../use/events'
import { moment, number, word } from '../use/format'
import { useLoading } from '../use/loading'

const inputs = ref<Input[]>([])
const { trouble, loaded, reload } = useLoading(async () => {
  const all: Input[] = []
  let cursor: string | undefined
  do {
    const page = await take(api.GET('/api/v1/inputs', { params: { query: { limit: 1000, cursor } } }))
    all.push(...page.items)
    cursor = page.next
  } while (cursor)
  inputs.value = all
})

onMounted(reload)
for (const name of ['roster', 'refresh', 'reset', 'look'] as const) useEvent(name, reload)

const slots = ['filled', 'late', 'doubled', 'broken', 'missing', 'excused', 'not_due'] as const
const coverage = (input: Input) =>
  slots
    .filter((s) => input.counts.coverage?.[s])
    .map((s) => `${number(input.counts.coverage![s])} ${word(s)}`)
    .join(', ')

const states = ['new', 'changed', 'removed', 'broken'] as const
</script>

<template>
  <h1>Inputs</h1>
  <trouble-note :trouble="trouble" />
  <p v-if="loaded && inputs.length === 0" class="quiet my-4">
    There is no input yet. Write a definition and add it with <code>jorvex input add FILE</code>, or load the demo with
    <code>jorvex demo</code>.
  </p>
  <div v-else-if="loaded" class="sheet mt-4">
    <table class="rows">
      <thead>
        <tr>
          <th>Input</th>
          <th>Place</th>
          <th class="number">Picked</th>
          <th class="number">Left out</th>
          <th v-for="state in states" :key="state" class="number">{{ state }}</th>
          <th>Coverage</th>
          <th>Last refresh</th>
          <th>Receipt</th>
          <th>Next</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="input in inputs" :key="input.name">
          <td data-label="Input">
            <router-link :to="`/inputs/${input.name}`">{{ input.title }}</router-link>
          </td>
          <td data-label="Place">
            {{ input.place }}
            <div v-if="!input.reachable" class="text-error">cannot be reached: {{ input.why }}</div>
          </td>
          <td data-label="Picked" class="number">{{ number(input.counts.picked) }}</td>
          <td data-label="Left out" class="number">{{ number(input.counts.left_out) }}</td>
          <td v-for="state in states" :key="state" :data-label="state" class="number">
            <router-link v-if="input.counts.by_state[state]" :to="`/inputs/${input.name}?state=${state}`">
              {{ number(input.counts.by_state[state]) }}
            </router-link>
            <span v-else class="quiet">0</span>
          </td>
          <td data-label="Coverage">
            <router-link v-if="input.counts.coverage" :to="`/inputs/${input.name}/coverage`" class="strip" :aria-label="coverage(input)" :title="coverage(input)">
              <span v-for="s in slots.filter((s) => input.counts.coverage![s])" :key="s" :class="s" :style="{ flexGrow: input.counts.coverage[s] }" />
            </router-link>
          </td>
          <td data-label="Last refresh">
            <template v-if="input.last_refresh">
              <state-mark :of="input.last_refresh.outcome" />
              <span class="quiet ml-2">{{ moment(input.last_refresh.ended) }}</span>
            </template>
            <span v-else class="quiet">none yet</span>
          </td>
          <td data-label="Receipt">
            <router-link v-if="input.last_receipt" :to="`/receipts/${input.last_receipt}`">{{ input.last_receipt }}</router-link>
          </td>
          <td data-label="Next" class="when" :title="input.next_refresh">{{ moment(input.next_refresh) }}</td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<style scoped>
.strip {
  display: flex;
  width: 130px;
  height: 14px;
  margin-top: 3px;
  border: 1px solid rgb(var(--v-theme-surface-variant));
}

.strip span {
  min-width: 4px;
  background: rgba(var(--v-theme-success), 0.75);
}

.strip .missing,
.strip .broken {
  background: rgb(var(--v-theme-error));
}

.strip .doubled,
.strip .late {
  background: rgb(var(--v-theme-warning));
}

.strip .not_due,
.strip .excused {
  background: rgba(var(--v-theme-on-surface), 0.16);
}
</style>
