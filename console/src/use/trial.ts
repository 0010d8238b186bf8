import { ref, watch, type Ref } from 'vue'

import { api, take, type Schemas, type Trouble } from './api'

type Fault = { line: number; column: number; message: string }

/** Judges the files of the last look by a text that is not saved, as it changes. */
export function useTrial(input: () => string, text: Ref<string>, show: Ref<Schemas['TrialRequest']['show']>, search: Ref<string>) {
  const trial = ref<Schemas['Trial']>()
  const trouble = ref<Trouble>()
  const faults = ref<Fault[]>([])
  const busy = ref(false)
  let asked = 0
  let waiting: ReturnType<typeof setTimeout>

  async function run() {
    const mine = ++asked
    busy.value = true
    try {
      const got = await take(
        api.POST('/api/v1/trials', { body: { definition: text.value, input: input(), show: show.value, q: search.value || undefined, limit: 50 } }),
      )
      if (mine !== asked) return
      trial.value = got
      trouble.value = undefined
      faults.value = []
    } catch (e) {
      if (mine !== asked) return
      const problem = e as Trouble & { problems?: Fault[] }
      faults.value = problem.problems ?? []
      trouble.value = problem.problems ? undefined : problem
    } finally {
      if (mine === asked) busy.value = false
    }
  }

  function soon() {
    clearTimeout(waiting)
    waiting = setTimeout(() => void run(), 200)
  }
  watch([text, show, search], soon)

  return { trial, trouble, faults, busy, run }
}
