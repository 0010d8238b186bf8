<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import TroubleNote from '../parts/TroubleNote.vue'
import { api, take, type Schemas } from '../use/api'
import { useEvent } from '../use/events'
import { count, decimal } from '../use/format'
import { useLoading } from '../use/loading'

const props = defineProps<{ input: string }>()
const route = useRoute()
const router = useRouter()

// What is shown is kept in the address.
const query = computed(() => ({
  receipt: Number(route.query.receipt) || undefined,
  rehearsal: Number(route.query.rehearsal) || undefined,
  where: route.query.where as string | undefined,
  file: route.query.file as string | undefined,
  cursor: route.query.cursor as string | undefined,
}))
const page = ref<Schemas['TablePage']>()
const where = ref(query.value.where ?? '')

const { trouble, reload } = useLoading(async () => {
  page.value = await take(api.GET('/api/v1/inputs/{input}/table', { params: { path: { input: props.input }, query: { ...query.value, limit: 100 } } }))
})
watch([() => props.input, query], reload, { immediate: true })
useEvent<{ input: string; outcome: string }>('refresh', (e) => {
  if (e.input === props.input && e.outcome !== 'running') void reload()
})

function show(change: Partial<typeof query.value>) {
  void router.push({ query: { ...route.query, cursor: undefined, ...change } })
}
function only(column: Schemas['TableColumn'], text: string) {
  const plain = ['whole', 'decimal', 'money', 'percent', 'date'].includes(column.type)
  where.value = text === '' ? `${column.name} is blank` : `${column.name} is ${plain ? text : `"${text.replaceAll('"', '""')}"`}`
  show({ where: where.value })
}

const download = computed(() => `/api/v1/inputs/${props.input}/table/content${query.value.where ? `?where=${encodeURIComponent(query.value.where)}` : ''}`)
const hint = 'only rows for which this holds, as in terminal is "Eskvik" and passengers above 100'
const numeric = (type: string) => ['whole', 'decimal', 'money', 'percent'].includes(type)
const shown = (type: string, text: string) => (numeric(type) && type !== 'percent' ? decimal(text) : text)
const name = (path: string) => path.split('/').at(-1)
</script>

<template>
  <h1>Rows of {{ input }}</h1>
  <p class="quiet">
    <router-link :to="`/inputs/${input}`">{{ input }}</router-link>
    <template v-if="page">
      · <router-link v-if="query.rehearsal" :to="`/refreshes/${query.rehearsal}`">rehearsal {{ query.rehearsal }}</router-link>
      <router-link v-else :to="`/receipts/${page.receipt}`">receipt {{ page.receipt }}</router-link> · {{ count(page.rows, 'row') }} from {{ count(page.files, 'file') }}
    </template>
  </p>
  <form class="line" @submit.prevent="show({ where: where || undefined })">
    <input v-model="where" class="grow" type="search" aria-label="Only rows for which this holds" :placeholder="hint" />
    <v-btn type="submit" size="small" variant="tonal">Show them</v-btn>
    <a v-if="page && !query.receipt && !query.rehearsal" class="link as-link" :href="download" download>Download as .csv</a>
    <v-btn v-if="query.where || query.file" size="small" variant="text" @click="((where = ''), show({ where: undefined, file: undefined }))">All rows</v-btn>
  </form>
  <trouble-note :trouble="trouble" />
  <template v-if="page">
    <p v-if="query.file" class="quiet">from {{ query.file }} on</p>
    <div class="sheet scroll sideways">
      <table class="rows">
        <thead>
          <tr>
            <th v-for="c in page.columns" :key="c.name" :class="{ number: numeric(c.type) }">{{ c.name }}</th>
            <th class="number">Row</th>
            <th>of the file</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(r, i) in page.items" :key="i">
            <td v-for="(v, c) in r.values" :key="c" :class="{ number: numeric(page.columns[c].type) }">
              <button type="button" :title="`Only rows with this ${page.columns[c].name}`" @click="only(page.columns[c], v)">{{ shown(page.columns[c].type, v) || '–' }}</button>
            </td>
            <td class="number quiet">{{ r.row || '' }}</td>
            <td>
              <template v-if="i === 0 || r.file !== page.items[i - 1].file">
                <router-link :to="{ path: `/inputs/${input}/story`, query: { path: r.file } }" :title="r.file">{{ name(r.file) }}</router-link>
                <button type="button" class="link ml-2" :aria-label="`Begin with ${r.file}`" @click="show({ file: r.file })">begin here</button>
              </template>
            </td>
          </tr>
          <tr v-if="page.items.length === 0">
            <td :colspan="page.columns.length + 2" class="quiet">{{ page.next ? 'None so far; go on looking.' : 'No row.' }}</td>
          </tr>
        </tbody>
      </table>
    </div>
    <p class="my-3">
      <v-btn v-if="query.cursor" size="small" variant="text" @click="show({})">From the first</v-btn>
      <v-btn v-if="page.next" size="small" variant="tonal" @click="show({ cursor: page.next })">Next rows</v-btn>
    </p>
  </template>
</template>

<style scoped>
.line {
  display: flex;
  gap: 8px;
  margin: 12px 0;
  flex-wrap: wrap;
}

.as-link {
  align-self: center;
}

.grow {
  flex: 1;
  min-width: 14em;
}

.scroll td {
  white-space: nowrap;
}
</style>
