<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import TroubleNote from '../parts/TroubleNote.vue'
import { api, take, type Schemas, type Trouble } from '../use/api'
import { moment } from '../use/format'
import { useLoading } from '../use/loading'

const props = defineProps<{ input: string }>()
const route = useRoute()
const router = useRouter()

const versions = ref<Schemas['Version'][]>([])
const differences = ref<Schemas['Differences']>()
const failed = ref<Trouble>()

const newest = computed(() => versions.value[0]?.version ?? 1)
const to = computed(() => Number(route.query.to ?? newest.value))
const from = computed(() => Number(route.query.from ?? Math.max(1, to.value - 1)))

const { trouble, reload } = useLoading(async () => {
  const path = { input: props.input }
  versions.value = (await take(api.GET('/api/v1/inputs/{input}/versions', { params: { path, query: { limit: 1000 } } }))).items
  differences.value = await take(api.GET('/api/v1/inputs/{input}/differences', { params: { path, query: { from: from.value, to: to.value } } }))
})
watch([() => props.input, () => route.query], reload, { immediate: true })

async function restore(v: Schemas['Version']) {
  if (!window.confirm(`Save version ${v.version} again, as version ${newest.value + 1}?`)) return
  failed.value = undefined
  try {
    const path = { input: props.input }
    const now = await api.GET('/api/v1/inputs/{input}', { params: { path } })
    const saved = await take(
      api.PUT('/api/v1/inputs/{input}', {
        params: { path, query: { rename: true }, header: { 'If-Match': now.response.headers.get('ETag') ?? '' } },
        body: { definition: v.definition },
      }),
    )
    await router.replace({ path: `/inputs/${saved.name}/versions`, query: { from: v.version, to: saved.version } })
  } catch (e) {
    failed.value = e as Trouble
  }
}
</script>

<template>
  <h1>Versions of {{ input }}</h1>
  <p class="quiet">
    <router-link :to="`/inputs/${input}`">the input</router-link> · <router-link :to="`/inputs/${input}/pick`">choose files</router-link>
  </p>
  <trouble-note :trouble="trouble ?? failed" />
  <div class="sheet my-4">
    <table class="rows">
      <thead>
        <tr>
          <th class="number">Version</th>
          <th>Saved</th>
          <th>By</th>
          <th>Compare</th>
          <th />
        </tr>
      </thead>
      <tbody>
        <tr v-for="v in versions" :key="v.version">
          <td data-label="Version" class="number">{{ v.version }}</td>
          <td data-label="Saved" :title="v.saved_at">{{ moment(v.saved_at) }}</td>
          <td data-label="By">{{ v.saved_by }}</td>
          <td data-label="Compare">
            <label><input type="radio" name="from" :checked="from === v.version" @change="router.replace({ query: { ...route.query, from: v.version } })" /> earlier</label>
            <label class="ml-3"><input type="radio" name="to" :checked="to === v.version" @change="router.replace({ query: { ...route.query, to: v.version } })" /> later</label>
          </td>
          <td class="number">
            <v-btn v-if="v.version !== newest" size="small" variant="text" @click="restore(v)">Restore</v-btn>
            <span v-else class="quiet">newest</span>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
  <template v-if="differences">
    <h2>What version {{ differences.to }} changed against version {{ differences.from }}</h2>
    <pre class="sheet lines"><template v-for="(l, i) in differences.lines" :key="i"><span :class="{ added: l.sign === '+', taken: l.sign === '-' }">{{ l.sign }} {{ l.text }}
</span></template></pre>
  </template>
</template>

<style scoped>
th.number:first-child {
  width: 5em;
}

.lines {
  padding: 8px 12px;
  font-family: ui-monospace, 'DejaVu Sans Mono', monospace;
  font-size: 0.87em;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}

.lines span {
  display: block;
  line-height: 1.45;
}

.added {
  background: rgba(var(--v-theme-success), 0.16);
}

.taken {
  background: rgba(var(--v-theme-error), 0.14);
  text-decoration: line-through;
}
</style>
