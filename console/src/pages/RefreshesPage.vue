<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import RunningRefresh from '../parts/RunningRefresh.vue'
import StateMark from '../parts/StateMark.vue'
import TroubleNote from '../parts/TroubleNote.vue'
import { api, take, type Refresh, type Schemas, type Trouble } from '../use/api'
import { useEvent } from '../use/events'
import { moment, number } from '../use/format'
import { useLoading } from '../use/loading'

const route = useRoute()
const router = useRouter()

// What is shown is kept in the address.
const query = computed(() => ({ input: route.query.input as string | undefined, cursor: route.query.cursor as string | undefined }))
const list = ref<Refresh[]>([])
const next = ref<string>()
const reports = ref<Schemas['Report'][]>([])
const failed = ref<Trouble>()
const { trouble, loaded, reload } = useLoading(async () => {
  const page = await take(api.GET('/api/v1/refreshes', { params: { query: { ...query.value, limit: 50 } } }))
  list.value = page.items
  next.value = page.next
  reports.value = (await take(api.GET('/api/v1/reports'))).items
})
watch(query, reload, { immediate: true })
useEvent<Refresh>('refresh', (r) => {
  const at = list.value.findIndex((l) => l.id === r.id)
  if (at >= 0 && r.outcome === list.value[at].outcome) list.value[at] = r
  else void reload()
})
useEvent('reset', reload)

const running = computed(() => list.value.filter((r) => r.outcome === 'running' || r.outcome === 'waiting'))
const ended = computed(() => list.value.filter((r) => !running.value.includes(r)))

async function act(ask: () => Promise<unknown>) {
  failed.value = undefined
  try {
    await ask()
  } catch (e) {
    failed.value = e as Trouble
  }
}
const every = () => act(() => take(api.POST('/api/v1/refreshes')))
const refresh = (report: string, rehearse: boolean) =>
  act(async () => {
    const r = await take(api.POST('/api/v1/reports/{report}/refreshes', { params: { path: { report } }, body: { rehearse } }))
    if (rehearse) await router.push(`/refreshes/${r.id}`)
  })
</script>

<template>
  <div class="top">
    <h1>Refreshes<template v-if="query.input"> of {{ query.input }}</template></h1>
    <v-btn v-if="!query.input" size="small" variant="tonal" @click="every">Refresh every input</v-btn>
  </div>
  <p v-if="query.input" class="quiet"><router-link :to="`/inputs/${query.input}`">{{ query.input }}</router-link> · <router-link to="/refreshes">all refreshes</router-link></p>
  <trouble-note :trouble="trouble ?? failed" />
  <template v-if="loaded">
    <template v-if="reports.length && !query.input">
      <h2>Reports</h2>
      <div class="sheet">
        <table class="rows">
          <tbody>
            <tr v-for="r in reports" :key="r.name">
              <td data-label="Report">
                <div>
                  {{ r.title }}
                  <div class="quiet">
                    <template v-for="(i, n) in r.inputs" :key="i">{{ n ? ', ' : '' }}<router-link :to="`/inputs/${i}`">{{ i }}</router-link></template>
                  </div>
                </div>
              </td>
              <td data-label="Next" class="when" :title="r.next_refresh">{{ r.next_refresh ? `next ${moment(r.next_refresh)}` : 'when somebody asks' }}</td>
              <td class="acts">
                <v-btn size="small" color="primary" @click="refresh(r.name, false)">Refresh</v-btn>
                <v-btn size="small" variant="tonal" @click="refresh(r.name, true)">Rehearse</v-btn>
              </td>
            </tr>
          </tbody>
        </table>
      </div>
    </template>
    <template v-if="running.length">
      <h2>Running</h2>
      <div class="sheet">
        <table class="rows">
          <tbody>
            <tr v-for="r in running" :key="r.id">
              <td><router-link :to="`/refreshes/${r.id}`">{{ r.request?.rehearse ? 'Rehearsal' : 'Refresh' }} {{ r.id }}</router-link> of {{ r.input }}</td>
              <td class="wide"><running-refresh :refresh="r" /></td>
            </tr>
          </tbody>
        </table>
      </div>
    </template>
    <h2>What they came to</h2>
    <p v-if="ended.length === 0" class="quiet">None yet. Refresh an input on its page, or with <code>jorvex refresh INPUT</code>.</p>
    <div v-else class="sheet">
      <table class="rows">
        <thead>
          <tr>
            <th>Refresh</th>
            <th>Of</th>
            <th>Outcome</th>
            <th>Asked for by</th>
            <th>Ended</th>
            <th>As of</th>
            <th class="number">Files</th>
            <th class="number">Rows</th>
            <th>Receipt</th>
          </tr>
        </thead>
        <tbody>
          <template v-for="r in ended" :key="r.id">
            <tr>
              <td data-label="Refresh"><router-link :to="`/refreshes/${r.id}`">{{ r.id }}</router-link></td>
              <td data-label="Of"><router-link v-if="!r.report" :to="`/inputs/${r.input}`">{{ r.input }}</router-link><template v-else>{{ r.input }}</template></td>
              <td data-label="Outcome">
                <div>
                  <state-mark :of="r.outcome" />
                  <div v-if="r.problem" class="problem">{{ r.problem }}</div>
                </div>
              </td>
              <td data-label="Asked for by">{{ r.asked_by }}</td>
              <td data-label="Ended" class="when" :title="r.ended">{{ moment(r.ended) }}</td>
              <td data-label="As of" class="when" :title="r.as_of">{{ moment(r.as_of) }}</td>
              <td data-label="Files" class="number">{{ number(r.files) }}</td>
              <td data-label="Rows" class="number">{{ number(r.rows) }}</td>
              <td data-label="Receipt"><router-link v-if="r.receipt" :to="`/receipts/${r.receipt}`">{{ r.receipt }}</router-link></td>
            </tr>
          </template>
        </tbody>
      </table>
    </div>
    <p class="text-right mt-2">
      <v-btn v-if="query.cursor" variant="text" @click="router.back()">Newer</v-btn>
      <v-btn v-if="next" variant="text" @click="router.push({ query: { ...route.query, cursor: next } })">Older</v-btn>
    </p>
  </template>
</template>

<style scoped>
.top {
  display: flex;
  justify-content: space-between;
  gap: 12px;
  flex-wrap: wrap;
}

.acts {
  white-space: nowrap;
  text-align: right;
}

.acts .v-btn + .v-btn {
  margin-left: 6px;
}

.wide {
  width: 70%;
}

.problem {
  max-width: 34em;
  font-size: 0.92em;
}
</style>
