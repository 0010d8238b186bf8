import { computed, ref, watch } from 'vue'
import { onBeforeRouteLeave } from 'vue-router'

import { api, take, type Input, type Trouble } from './api'
import type { Definition } from './definition'

/** The saved definition that a bench edits, and saving it. */
export function useBench(input: () => string, definition: Definition) {
  const saved = ref<Input>()
  const tag = ref('')
  const conflict = ref<Trouble>()
  const notice = ref('')

  async function load() {
    const answer = await api.GET('/api/v1/inputs/{input}', { params: { path: { input: input() } } })
    saved.value = await take(Promise.resolve(answer))
    tag.value = answer.response.headers.get('ETag') ?? ''
    definition.start(saved.value.definition)
  }

  async function save() {
    conflict.value = undefined
    notice.value = ''
    try {
      const answer = await api.PUT('/api/v1/inputs/{input}', {
        params: { path: { input: input() }, header: { 'If-Match': tag.value } },
        body: { definition: definition.text.value },
      })
      saved.value = await take(Promise.resolve(answer))
      tag.value = answer.response.headers.get('ETag') ?? ''
      notice.value = `Saved as version ${saved.value.version}.`
    } catch (e) {
      conflict.value = e as Trouble
    }
  }

  const changed = computed(() => saved.value !== undefined && definition.text.value !== saved.value.definition)
  watch(changed, (now) => {
    if (now) notice.value = ''
  })
  onBeforeRouteLeave(() => !changed.value || window.confirm('Leave without saving what you changed?'))

  function keys(e: KeyboardEvent) {
    if (!(e.ctrlKey || e.metaKey)) return
    const key = e.key.toLowerCase()
    if (key === 'z' && !e.shiftKey) definition.undo()
    else if (key === 'y' || (key === 'z' && e.shiftKey)) definition.redo()
    else if (key === 's') void save()
    else return
    e.preventDefault()
  }

  return { saved, conflict, notice, changed, load, save, keys }
}

export type Bench = ReturnType<typeof useBench>
