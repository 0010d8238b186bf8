import { onScopeDispose, ref } from 'vue'

const names = ['look', 'roster', 'refresh', 'notice', 'reset'] as const
type Name = (typeof names)[number]
type Listener = (data: never) => void
type Message = { name: Name; data: never } | { live: boolean } | { ask: true }

const listeners = new Map<Name, Set<Listener>>()

/** Whether live events arrive. */
export const live = ref(false)

function deliver(name: Name, data: never) {
  for (const listener of listeners.get(name) ?? []) listener(data)
}

// A browser has few connections to a host, for all its tabs together. So one tab
// listens to the service, and tells the others.
const tabs = new BroadcastChannel('jorvex-events')
let source: EventSource | undefined
let leave: (() => void) | undefined

function tell(message: Message) {
  tabs.postMessage(message)
  hear(message)
}

function hear(message: Message) {
  if ('name' in message) deliver(message.name, message.data)
  else if ('live' in message) {
    // What happened between the page's first reading and now was not heard.
    if (message.live && !live.value) deliver('reset', {} as never)
    live.value = message.live
  } else if (source) tabs.postMessage({ live: live.value })
}

function open() {
  // The browser reconnects by itself and sends the last id it saw.
  source = new EventSource('/api/v1/events')
  source.onopen = () => tell({ live: true })
  source.onerror = () => {
    tell({ live: false })
    if (source?.readyState === EventSource.CLOSED) setTimeout(() => source && open(), 3000)
  }
  for (const name of names) source.addEventListener(name, (e: MessageEvent<string>) => tell({ name, data: JSON.parse(e.data) as never }))
}

function begin() {
  tabs.onmessage = (e: MessageEvent<Message>) => hear(e.data)
  tabs.postMessage({ ask: true })
  void navigator.locks.request('jorvex-events', () => {
    open()
    return new Promise<void>((resolve) => (leave = resolve))
  })
}

// A page that is left may be kept by the browser; it must not keep the others
// waiting.
window.addEventListener('pagehide', () => {
  source?.close()
  source = undefined
  leave?.()
})
window.addEventListener('pageshow', (e) => {
  if (e.persisted) begin()
})

/** Calls listener with the data of every event of that name, while the component lives. */
export function useEvent<T>(name: Name, listener: (data: T) => void) {
  if (listeners.size === 0) begin()
  const set = listeners.get(name) ?? new Set()
  listeners.set(name, set)
  set.add(listener as Listener)
  onScopeDispose(() => set.delete(listener as Listener))
}
