<script setup lang="ts">
import { computed, onMounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import StateMark from '../parts/StateMark.vue'
import TroubleNote from '../parts/TroubleNote.vue'
import { api, take, type Schemas } from '../use/api'
import { useEvent } from '../use/events'
import { moment, number } from '../use/format'
import { useLoading } from '../use/loading'
import { countUnseen } from '../use/notices'

const route = useRoute()
const router = useRouter()
const items = ref<Schemas['Notice'][]>([])
const next = ref<string>()
const fresh = ref(0)
const only = computed(() => route.query.unseen === 'true')

async function page(cursor?: string) {
  return take(api.GET('/api/v1/notices', { params: { query: { limit: 100, cursor, unseen: only.value } } }))
}
const { trouble, loaded, reload } = useLoading(async () => {
  const first = await page()
  items.value = first.items
  next.value = first.next
  fresh.value = first.unseen
})
onMounted(reload)
watch(only, reload)
for (const name of ['notice', 'reset'] as const) useEvent(name, reload)

async function more() {
  const rest = await page(next.value)
  items.value.push(...rest.items)
  next.value = rest.next
}

async function see() {
  const through = items.value[0]?.id
  if (through === undefined) return
  await api.PUT('/api/v1/notices/seen', { body: { through } })
  await Promise.all([reload(), countUnseen()])
}

const path = (link: string) => new URL(link).pathname + new URL(link).search

const arrived = (n: Schemas['Notice']) =>
  n.sends
    .filter((s) => s.state === 'sent')
    .map((s) => s.address)
    .join(', ')

function way(s: Schemas['NoticeSend']): string {
  if (s.state === 'given_up') return `given up on ${s.address}: ${s.problem}`
  return s.attempts ? `trying ${s.address} again ${moment(s.due)}: ${s.problem}` : `waiting to be sent to ${s.address}`
}
</script>

<template>
  <div class="head">
    <h1>Notices</h1>
    <label><input type="checkbox" :checked="only" @change="router.replace({ query: only ? {} : { unseen: 'true' } })" /> unseen alone</label>
    <v-btn v-if="fresh" size="small" variant="tonal" @click="see">Mark {{ number(fresh) }} as seen</v-btn>
    <router-link to="/settings" class="rules">what is told, and to whom</router-link>
  </div>
  <trouble-note :trouble="trouble" />
  <p v-if="loaded && items.length === 0" class="quiet my-4">{{ only ? 'Nothing that was not seen.' : 'Nothing was worth telling yet.' }}</p>
  <div v-else-if="loaded" class="sheet my-4">
    <table class="rows">
      <tbody>
        <tr v-for="n in items" :key="n.id" :class="{ unseen: !n.seen }">
          <td class="when" :title="n.at">{{ moment(n.at) }}</td>
          <td class="mark"><state-mark :of="n.kind" /></td>
          <td>
            <router-link :to="path(n.link)">{{ n.sentence }}</router-link>
            <span v-if="!n.seen" class="tag">new</span>
            <details v-if="n.count > 1">
              <summary>{{ number(n.count) }} in all</summary>
              <ul>
                <li v-for="name in n.named" :key="name" class="path">{{ name }}</li>
              </ul>
              <p v-if="n.count > n.named.length" class="quiet">and {{ number(n.count - n.named.length) }} more</p>
            </details>
            <p v-if="arrived(n)" class="quiet way">sent to {{ arrived(n) }}</p>
            <p v-for="s in n.sends.filter((s) => s.state !== 'sent')" :key="s.channel + s.address" class="way" :class="s.attempts ? 'text-error' : 'quiet'">{{ way(s) }}</p>
          </td>
          <td class="quiet">{{ n.title ?? n.input ?? n.place }}</td>
        </tr>
      </tbody>
    </table>
  </div>
  <v-btn v-if="next" size="small" variant="tonal" @click="more">More</v-btn>
</template>

<style scoped>
.head {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 20px;
  align-items: center;
}

.rules {
  margin-left: auto;
}

.unseen a {
  font-weight: 600;
}

.tag {
  margin-left: 8px;
  font-size: 0.8em;
  border: 1px solid currentColor;
  border-radius: 3px;
  padding: 0 4px;
}

.way,
details {
  font-weight: 400;
  font-size: 0.87em;
}

@media (min-width: 641px) {
  .mark {
    width: 130px;
  }

  .when {
    width: 170px;
  }
}
</style>
