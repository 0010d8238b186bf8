<script setup lang="ts">
import { computed, onMounted, ref } from 'vue'

import StateMark from '../parts/StateMark.vue'
import TroubleNote from '../parts/TroubleNote.vue'
import { api, take, type Input, type Schemas, type Trouble } from '../use/api'
import { useEvent } from '../use/events'
import { count, moment } from '../use/format'
import { useLoading } from '../use/loading'

const inputs = ref<Input[]>([])
const recent = ref<Schemas['RecentChange'][]>([])
const reports = ref<Schemas['Report'][]>([])
const failed = ref<Trouble>()
const { trouble, loaded, reload } = useLoading(async () => {
  const all: Input[] = []
  let cursor: string | undefined
  do {
    const page = await take(api.GET('/api/v1/inputs', { params: { query: { limit: 1000, cursor } } }))
    all.push(...page.items)
    cursor = page.next
  } while (cursor)
  inputs.value = all
  reports.value = (await take(api.GET('/api/v1/reports'))).items
  recent.value = (await take(api.GET('/api/v1/changes', { params: { query: { limit: 30 } } }))).items
})
onMounted(reload)
for (const name of ['roster', 'refresh', 'reset', 'look'] as const) useEvent(name, reload)

// What runs without a person, the next first: reports, and inputs by themselves.
const upcoming = computed(() => {
  const list = reports.value.filter((r) => r.next_refresh).map((r) => ({ at: r.next_refresh!, name: r.name, title: r.title, of: r.inputs.join(', '), to: '/refreshes' }))
  for (const i of inputs.value) if (i.next_refresh && i.refreshed_when?.some((w) => w.startsWith('at '))) list.push({ at: i.next_refresh, name: i.name, title: i.title, of: '', to: `/inputs/${i.name}` })
  return list.sort((a, b) => a.at.localeCompare(b.at)).slice(0, 8)
})

type Need = { mark: string; says: string; input: Input; to: string; confirm?: boolean }

// What needs a person, the weightiest first.
const needs = computed(() => {
  const list: (Need & { weight: number })[] = []
  for (const input of inputs.value) {
    const at = `/inputs/${input.name}`
    const state = (s: string) => input.counts.by_state[s] ?? 0
    const add = (weight: number, mark: string, says: string, to: string, confirm = false) => list.push({ weight, mark, says, input, to, confirm })
    if (!input.reachable) add(0, 'unreachable', `${input.place} cannot be reached: ${input.why}`, '/places')
    if (state('in_doubt'))
      add(1, 'in_doubt', `${count(state('in_doubt'), 'file')} of ${input.doubt?.had ?? 0} gone at once, which is not believed`, `${at}?state=in_doubt`, true)
    if (input.last_refresh?.outcome === 'asking') add(1, 'asking', `a refresh waits for you to decide: ${input.last_refresh.problem}`, at)
    if (input.last_refresh?.outcome === 'stopped' || input.last_refresh?.outcome === 'failed')
      add(2, input.last_refresh.outcome, input.last_refresh.problem ?? 'the last refresh delivered nothing', at)
    if (state('broken')) add(3, 'broken', `${count(state('broken'), 'file')} cannot be used`, `${at}?state=broken`)
    const slots = input.counts.coverage ?? {}
    if (slots.missing) add(4, 'missing', `${count(slots.missing, 'expected file')} missing`, `${at}/coverage`)
    if (slots.doubled) add(5, 'doubled', `${count(slots.doubled, 'expected file')} there twice`, `${at}/coverage`)
    for (const f of input.findings) if (!f.code.startsWith('slot_')) add(f.grade === 'note' ? 8 : 6, f.grade, f.sentence, at)
    if (input.counts.near) add(7, 'near', `${count(input.counts.near, 'file')} nearly picked`, `${at}?near=true`)
  }
  return list.sort((a, b) => a.weight - b.weight)
})

async function confirmLoss(input: Input) {
  if (!window.confirm(`Are the ${input.doubt?.gone} files of ${input.title} really gone? They will be told as removed.`)) return
  failed.value = undefined
  try {
    await take(api.POST('/api/v1/inputs/{input}/confirmation', { params: { path: { input: input.name } } }))
  } catch (e) {
    failed.value = e as Trouble
  }
}
</script>

<template>
  <h1>Today</h1>
  <trouble-note :trouble="trouble ?? failed" />
  <template v-if="loaded">
    <h2>What needs you</h2>
    <p v-if="needs.length === 0" class="quiet">Nothing. Every input is as it should be.</p>
    <div v-else class="sheet">
      <table class="rows">
        <tbody>
          <tr v-for="n in needs" :key="n.input.name + n.mark + n.says">
            <td class="mark"><state-mark :of="n.mark" /></td>
            <td>
              <router-link :to="n.to">{{ n.says }}</router-link>
              <v-btn v-if="n.confirm" size="x-small" variant="tonal" class="ml-2" @click="confirmLoss(n.input)">They are gone</v-btn>
            </td>
            <td class="quiet">{{ n.input.title }}</td>
          </tr>
        </tbody>
      </table>
    </div>
    <template v-if="upcoming.length">
      <h2>What runs next</h2>
      <div class="sheet">
        <table class="rows">
          <tbody>
            <tr v-for="u in upcoming" :key="u.at + u.name">
              <td class="when" :title="u.at">{{ moment(u.at) }}</td>
              <td><router-link :to="u.to">{{ u.title }}</router-link></td>
              <td class="quiet">{{ u.of }}</td>
            </tr>
          </tbody>
        </table>
      </div>
    </template>
    <h2>What happened</h2>
    <p v-if="recent.length === 0" class="quiet">Nothing yet.</p>
    <div v-else class="sheet">
      <table class="rows">
        <tbody>
          <tr v-for="c in recent" :key="c.input + c.state + c.at">
            <td class="when">{{ moment(c.at) }}</td>
            <td class="mark"><state-mark :of="c.state || 'went'" /></td>
            <td class="path">
              <router-link :to="`/inputs/${c.input}/log`">{{ c.files === 1 ? c.path : count(c.files, 'file') }}</router-link>
            </td>
            <td class="quiet">{{ c.title }}</td>
          </tr>
        </tbody>
      </table>
    </div>
  </template>
</template>

<style scoped>
@media (min-width: 641px) {
  .mark {
    width: 130px;
  }

  .when {
    width: 170px;
  }
}
</style>
