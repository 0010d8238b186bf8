import { computed, ref } from 'vue'
import { Document, isMap, isScalar, isSeq, parseDocument } from 'yaml'

/** A rule as the bench edits it: its text, and whether it is switched off. */
export type Rule = { text: string; off: boolean }

type Path = (string | number)[]

/** Keys about choosing, after which a new one is put. */
const choosing = ['place', 'folder', 'parameters', 'pick', 'match_case', 'captures', 'files', 'list', 'scratch', 'only_if', 'leave_out', 'window', 'latest', 'same_content']

/** Adds a key after those that are about the same. */
function insert(doc: Document, key: string, value: unknown) {
  if (!isMap(doc.contents) || doc.has(key)) {
    doc.set(key, value)
    return
  }
  let at = 0
  doc.contents.items.forEach((pair, i) => {
    if (choosing.includes(String(isScalar(pair.key) ? pair.key.value : pair.key))) at = i + 1
  })
  doc.contents.items.splice(at, 0, doc.createPair(key, value) as (typeof doc.contents.items)[number])
}

/**
 * The text of a definition, edited as text or by its parts. Both are one: the
 * parts are read off the text, and a change of a part is one of the text that
 * leaves comments and everything else as they are. Every change can be undone.
 */
export function useDefinition() {
  const past = ref<string[]>([])
  const future = ref<string[]>([])
  const text = ref('')
  let typed = 0

  const document = computed(() => parseDocument(text.value))
  const broken = computed(() => document.value.errors[0]?.message.split('\n')[0])
  const plain = computed<Record<string, unknown>>(() => {
    const value: unknown = broken.value ? undefined : document.value.toJS()
    return value && typeof value === 'object' ? (value as Record<string, unknown>) : {}
  })

  function start(from: string) {
    text.value = from
    past.value = []
    future.value = []
  }

  /** Takes a new text. Typing goes on within one step for a second. */
  function write(next: string, typing = false) {
    if (next === text.value) return
    const now = Date.now()
    if (!typing || now - typed > 1000) past.value.push(text.value)
    typed = typing ? now : 0
    future.value = []
    text.value = next
  }

  function step(from: string[], to: string[]) {
    const next = from.pop()
    if (next === undefined) return
    to.push(text.value)
    typed = 0
    text.value = next
  }

  function edit(change: (doc: Document) => void, typing = false) {
    const doc = parseDocument(text.value)
    if (doc.errors.length) return
    change(doc)
    write(doc.toString({ lineWidth: 0, flowCollectionPadding: false }), typing)
  }

  /** Sets values, or takes their keys away where there is none, in one step. */
  function setAll(values: [Path, unknown][], typing = false) {
    edit((doc) => {
      for (const [path, value] of values) {
        if (value === undefined || value === '') {
          doc.deleteIn(path)
          continue
        }
        const node = doc.createNode(value, { flow: typeof value === 'object' && !Array.isArray(value) })
        if (path.length === 1) insert(doc, String(path[0]), node)
        else doc.setIn(path, node)
      }
    }, typing)
  }
  const set = (path: Path, value: unknown, typing = false) => setAll([[path, value]], typing)

  /** The rules of a list, whose entries are texts or {key: text, off: true}. */
  function rules(list: string, key: string): Rule[] {
    const entries = plain.value[list]
    if (!Array.isArray(entries)) return []
    return entries.map((entry: unknown) => {
      if (entry && typeof entry === 'object') {
        const rule = entry as Record<string, unknown>
        return { text: String(rule[key] ?? ''), off: rule.off === true }
      }
      return { text: String(entry ?? ''), off: false }
    })
  }

  function setRule(list: string, key: string, at: number, rule: Rule, typing = false) {
    edit((doc) => {
      const entry: unknown = doc.getIn([list, at], true)
      if (!rule.off && isScalar(entry)) entry.value = rule.text
      else if (rule.off && isMap(entry)) doc.setIn([list, at, key], rule.text)
      else doc.setIn([list, at], doc.createNode(rule.off ? { [key]: rule.text, off: true } : rule.text, { flow: true }))
    }, typing)
  }

  function addRule(list: string, text: string) {
    edit((doc) => {
      if (Array.isArray(plain.value[list])) doc.addIn([list], text)
      else insert(doc, list, doc.createNode([text]))
    })
  }

  function removeRule(list: string, at: number) {
    edit((doc) => {
      const left = (plain.value[list] as unknown[]).length - 1
      if (left > 0) doc.deleteIn([list, at])
      else doc.delete(list)
    })
  }

  /** Adds an entry {key: value, …} to a list, in one line. */
  function addEntry(list: string, entry: Record<string, unknown>) {
    edit((doc) => {
      const node = doc.createNode(entry, { flow: true })
      if (Array.isArray(plain.value[list])) doc.addIn([list], node)
      else doc.set(list, doc.createNode([node]))
    })
  }

  /** Moves an entry of a list to another place in it. */
  function moveEntry(list: string, from: number, to: number) {
    edit((doc) => {
      const node: unknown = doc.get(list, true)
      if (!isSeq(node) || to < 0 || to >= node.items.length) return
      node.items.splice(to, 0, ...node.items.splice(from, 1))
    })
  }

  return {
    text,
    plain,
    broken,
    start,
    write,
    set,
    setAll,
    rules,
    setRule,
    addRule,
    removeRule,
    addEntry,
    moveEntry,
    undo: () => step(past.value, future.value),
    redo: () => step(future.value, past.value),
    canUndo: computed(() => past.value.length > 0),
    canRedo: computed(() => future.value.length > 0),
  }
}

export type Definition = ReturnType<typeof useDefinition>
