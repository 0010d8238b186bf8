import type { Schemas } from './api'

/** A condition of one test, as the bench shows it in fields. */
export type Test = { not: boolean; field: string; verb: string; exactly: boolean; value: string }

const verbs = [
  'is one of',
  'is blank',
  'is',
  'contains',
  'starts with',
  'ends with',
  'matches',
  'above',
  'below',
  'at least',
  'at most',
  'before',
  'after',
  'within last',
]

const test = new RegExp(`^(not )?(\\S+) (${verbs.join('|')})( exactly)?(?: (.*))?$`, 'i')

/** Reads a condition of one test; undefined for any other. */
export function readTest(text: string, fields: Schemas['Field'][]): Test | undefined {
  const m = test.exec(text.trim())
  if (!m || !fields.some((f) => f.name === m[2])) return undefined
  const verb = m[3].toLowerCase()
  let value = m[5] ?? ''
  const kind = fields.find((f) => f.name === m[2])?.kind
  if (verb === 'is one of') {
    const inner = /^\((.*)\)$/.exec(value)?.[1]
    if (inner === undefined) return undefined
    const list = kind === 'text' ? inner.match(/"(?:[^"]|"")*"/g)?.map(unquote) : inner.split(',').map((v) => v.trim())
    if (!list || list.some((v) => v.includes(','))) return undefined
    value = list.join(', ')
  } else if (kind === 'text' && verb !== 'is blank' && !value.startsWith('$')) {
    if (!/^"(?:[^"]|"")*"$/.test(value)) return undefined
    value = unquote(value)
  } else if (/ (and|or) /i.test(value)) return undefined
  return { not: !!m[1], field: m[2], verb, exactly: !!m[4], value }
}

function unquote(text: string): string {
  return text.slice(1, -1).replaceAll('""', '"')
}

function quote(text: string): string {
  return text.startsWith('$') ? text : `"${text.replaceAll('"', '""')}"`
}

/** Writes a test as a condition. */
export function writeTest(t: Test, fields: Schemas['Field'][]): string {
  const text = fields.find((f) => f.name === t.field)?.kind === 'text'
  let value = t.value.trim()
  if (t.verb === 'is blank') value = ''
  else if (t.verb === 'is one of') {
    const list = value.split(',').map((v) => v.trim())
    value = ` (${(text ? list.map(quote) : list).join(', ')})`
  } else value = ' ' + (text ? quote(t.value) : value)
  return `${t.not ? 'not ' : ''}${t.field} ${t.verb}${t.exactly ? ' exactly' : ''}${value}`
}
