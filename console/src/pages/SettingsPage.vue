<script setup lang="ts">
import { onMounted, ref } from 'vue'

import VaultSettings from '../parts/VaultSettings.vue'
import TroubleNote from '../parts/TroubleNote.vue'
import { api, take, type Schemas, type Trouble } from '../use/api'
import { word } from '../use/format'
import { useLoading } from '../use/loading'

type Rule = Schemas['NoticeRule']

const rules = ref<Rule[]>([])
const kinds = ref<Schemas['NoticeKind'][]>([])
const from = ref('')
const inputs = ref<string[]>([])
const trials = ref<Record<string, Schemas['NoticeTrial'][]>>({})
const failed = ref<Trouble>()
const busy = ref('')
const edited = ref<{ name: string; old: boolean; kinds: Rule['kinds']; inputs: string[]; mail: string; hook: string; off: boolean }>()

const { trouble, loaded, reload } = useLoading(async () => {
  const page = await take(api.GET('/api/v1/notice-rules'))
  rules.value = page.items
  kinds.value = page.kinds
  from.value = page.mail_from ?? ''
  inputs.value = (await take(api.GET('/api/v1/inputs', { params: { query: { limit: 1000 } } }))).items.map((i) => i.name)
})
onMounted(reload)

const meaning: Record<Schemas['NoticeKind'], string> = {
  broken: 'files cannot be used',
  missing: 'expected files are due and not there',
  late: 'expected files came late',
  in_doubt: 'so many files are gone that it is not believed',
  unreachable: 'a place cannot be looked at',
  complete: 'all expected files of a period are there',
  delivered: 'a refresh delivered, with rows and totals moved',
  stopped: 'a refresh was stopped by its gate',
  waiting: 'a refresh waits for somebody to decide',
  failed: 'a refresh failed',
}

function edit(r?: Rule) {
  failed.value = undefined
  edited.value = r
    ? { name: r.name, old: true, kinds: [...r.kinds], inputs: [...r.inputs], mail: r.mail.join(', '), hook: r.hook ?? '', off: r.off }
    : { name: '', old: false, kinds: ['broken', 'missing', 'in_doubt'], inputs: [], mail: '', hook: '', off: false }
}

async function act(name: string, ask: () => Promise<unknown>) {
  failed.value = undefined
  busy.value = name
  try {
    await ask()
  } catch (e) {
    failed.value = e as Trouble
  } finally {
    busy.value = ''
  }
}

const save = () =>
  act('save', async () => {
    const e = edited.value
    if (!e) return
    const mail = e.mail.split(/[\s,;]+/).filter(Boolean)
    await take(
      api.PUT('/api/v1/notice-rules/{rule}', {
        params: { path: { rule: e.name } },
        body: { kinds: e.kinds, inputs: e.inputs, mail, hook: e.hook || undefined, off: e.off },
      }),
    )
    edited.value = undefined
    await reload()
  })

const drop = (r: Rule) =>
  act(r.name, async () => {
    if (!window.confirm(`Take the rule ${r.name} away? What it sent stays.`)) return
    const { error } = await api.DELETE('/api/v1/notice-rules/{rule}', { params: { path: { rule: r.name } } })
    if (error) throw error
    await reload()
  })

const attempt = (r: Rule) =>
  act(r.name, async () => {
    trials.value[r.name] = (await take(api.POST('/api/v1/notice-rules/{rule}/trials', { params: { path: { rule: r.name } } }))).items
  })
</script>

<template>
  <h1>Settings</h1>
  <trouble-note :trouble="trouble ?? failed" />
  <template v-if="loaded">
    <h2>What is told, and to whom</h2>
    <p class="quiet">
      Whatever a rule tells is in the <router-link to="/notices">notices</router-link>, once for as long as it lasts.
      {{ from ? `Mail comes from ${from}.` : 'No mail server is set up: start the service with JORVEX_SMTP and JORVEX_MAIL_FROM.' }}
    </p>
    <div class="sheet my-3">
      <table class="rows">
        <thead>
          <tr>
            <th>Rule</th>
            <th>Tells</th>
            <th>Of</th>
            <th>Beside the console, to</th>
            <th />
          </tr>
        </thead>
        <tbody>
          <tr v-for="r in rules" :key="r.name" :class="{ quiet: r.off }">
            <td data-label="Rule">{{ r.name }}<template v-if="r.off"> (off)</template></td>
            <td data-label="Tells">{{ r.kinds.map(word).join(', ') }}</td>
            <td data-label="Of">{{ r.inputs.length ? r.inputs.join(', ') : 'all inputs' }}</td>
            <td data-label="To" class="to">
              <div>
                <p v-for="m in r.mail" :key="m">{{ m }}</p>
                <details v-if="r.hook">
                  <summary>{{ r.hook }}</summary>
                  signed with <code>{{ r.secret }}</code>
                </details>
                <span v-if="!r.mail.length && !r.hook" class="quiet">nobody else</span>
                <p v-for="t in trials[r.name]" :key="t.address" :class="t.problem ? 'text-error' : 'text-success'">{{ t.address }}: {{ t.problem ?? 'the trial arrived' }}</p>
              </div>
            </td>
            <td class="acts">
              <v-btn v-if="r.mail.length || r.hook" size="small" variant="text" :loading="busy === r.name" @click="attempt(r)">Try</v-btn>
              <v-btn size="small" variant="text" @click="edit(r)">Edit</v-btn>
              <v-btn size="small" variant="text" @click="drop(r)">Take away</v-btn>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <v-btn v-if="!edited" variant="tonal" @click="edit()">Add a rule</v-btn>
    <form v-else class="sheet form" @submit.prevent="save">
      <label class="field">Name <input v-model="edited.name" :disabled="edited.old" required pattern="[a-z][a-z0-9]*(-[a-z0-9]+)*" title="small letters, digits and single dashes" /></label>
      <fieldset>
        <legend>Tell when</legend>
        <label v-for="k in kinds" :key="k"><input v-model="edited.kinds" type="checkbox" :value="k" /> {{ word(k) }} <span class="quiet">{{ meaning[k] }}</span></label>
      </fieldset>
      <fieldset>
        <legend>Of <span class="quiet">(none ticked: all inputs)</span></legend>
        <label v-for="i in inputs" :key="i"><input v-model="edited.inputs" type="checkbox" :value="i" /> {{ i }}</label>
      </fieldset>
      <label class="field">Mail to <input v-model="edited.mail" :disabled="!from" placeholder="name@host, name@host" /></label>
      <label class="field">Web hook <input v-model="edited.hook" type="url" placeholder="https://host/path" /></label>
      <label><input v-model="edited.off" type="checkbox" /> off: keep the rule, tell nothing by it</label>
      <div>
        <v-btn type="submit" color="primary" :loading="busy === 'save'" :disabled="!edited.kinds.length">Save</v-btn>
        <v-btn variant="text" @click="edited = undefined">Leave it</v-btn>
      </div>
    </form>
    <vault-settings />
  </template>
</template>

<style scoped>
.to {
  overflow-wrap: anywhere;
}

.acts {
  white-space: nowrap;
  text-align: right;
}

.form {
  padding: 12px 16px;
  display: grid;
  gap: 12px;
}

.field {
  display: grid;
  grid-template-columns: 6em minmax(0, 28em);
  align-items: center;
}

fieldset {
  border: 0;
  padding: 0;
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(min(100%, 23em), 1fr));
  gap: 2px 16px;
}

legend {
  font-weight: 600;
}
</style>
