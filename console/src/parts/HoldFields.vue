<script setup lang="ts">
import { ref } from 'vue'

import { api, take, type File, type Trouble } from '../use/api'
import { moment } from '../use/format'
import TroubleNote from './TroubleNote.vue'

const props = defineProps<{ input: string; file: File }>()

const note = ref('')
const until = ref('')
const same = ref(false)
const trouble = ref<Trouble>()

async function act(ask: () => Promise<unknown>) {
  trouble.value = undefined
  try {
    await ask()
  } catch (e) {
    trouble.value = e as Trouble
  }
}

const hold = (into: boolean) =>
  act(() =>
    take(
      api.POST('/api/v1/inputs/{input}/holds', {
        params: { path: { input: props.input } },
        body: {
          path: props.file.path,
          in: into,
          note: note.value,
          while_same: same.value,
          ...(until.value ? { until: new Date(`${until.value}T23:59:59`).toISOString() } : {}),
        },
      }),
    ),
  )

const release = (id: number) =>
  act(async () => {
    const { error } = await api.DELETE('/api/v1/inputs/{input}/holds/{hold}', { params: { path: { input: props.input, hold: id } } })
    if (error) throw error
  })
</script>

<template>
  <trouble-note :trouble="trouble" />
  <p v-if="file.hold" class="hold">
    Held {{ file.hold.in ? 'in' : 'out' }} by {{ file.hold.by }} since {{ moment(file.hold.at) }}<template v-if="file.hold.note">: {{ file.hold.note }}</template><template v-if="file.hold.until">, until {{ moment(file.hold.until) }}</template><template v-if="file.hold.while_same">, while its bytes stay the same</template>.
    <v-btn size="small" variant="tonal" @click="release(file.hold.id)">Release</v-btn>
  </p>
  <div v-else class="hold">
    Whatever the rules say:
    <input v-model="note" aria-label="Note" placeholder="why" />
    <label>until <input v-model="until" type="date" aria-label="Until" /></label>
    <label><input v-model="same" type="checkbox" /> while its bytes stay the same</label>
    <v-btn size="small" variant="tonal" @click="hold(true)">Hold in</v-btn>
    <v-btn size="small" variant="tonal" @click="hold(false)">Hold out</v-btn>
  </div>
</template>

<style scoped>
.hold {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 10px;
  align-items: center;
  padding: 4px 0 8px;
}
</style>
