import { ref } from 'vue'

import type { Trouble } from './api'

/**
 * Runs one loading at a time: a call while one runs has it run once more after,
 * so that the last state asked for is the one shown.
 */
export function useLoading(load: () => Promise<void>) {
  const trouble = ref<Trouble>()
  const loaded = ref(false)
  let running = false
  let again = false

  async function reload() {
    if (running) {
      again = true
      return
    }
    running = true
    do {
      again = false
      try {
        await load()
        trouble.value = undefined
        loaded.value = true
      } catch (e) {
        trouble.value = e as Trouble
      }
    } while (again)
    running = false
  }

  return { trouble, loaded, reload }
}
