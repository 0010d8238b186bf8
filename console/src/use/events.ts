import { onScopeDispose, ref } from 'vue'

const names = ['look', 'roster', 'refresh', 'notice', 'reset'] as const
type Name = (typeof names)[number]
type Listener = (data: never) => void

const listeners = new Map<Name, Set<Listener>>()
let source: EventSource | undefined

/** Whether live events arrive. */
export const live = ref(false)

function open() {
  // The browser reconnects by itself and sends the last id it saw.
  source = new EventSource('/api/v1/events')
  source.onopen = () => {
    live.value = true
    // What happened between the page's first reading and now was not heard.
    for (const listener of listeners.get('reset') ?? []) listener({} as never)
  }
  source.onerror = () => {
    live.value = false
    if (source?.readyState === EventSource.CLOSED) setTimeout(open, 3000)
  }
  for (const name of names) {
    source.addEventListener(name, (e: MessageEvent<string>) => {
      const data = JSON.parse(e.data) as never
      for (const listener of listeners.get(name) ?? []) listener(data)
    })
  }
}

/** Calls listener with the data of every event of that name, while the component lives. */
export function useEvent<T>(name: Name, listener: (data: T) => void) {
  if (!source) open()
  const set = listeners.get(name) ?? new Set()
  listeners.set(name, set)
  set.add(listener as Listener)
  onScopeDispose(() => set.delete(listener as Listener))
}
