/** One part of an example path, and what it is to stand for. */
export type Part = { text: string; as: 'itself' | 'varies' | 'number' | 'date' | 'any' | 'separator'; name: string; form: string }

const months = 'january|february|march|april|may|june|july|august|september|october|november|december'

// Dates as people write them in names, each with its form; the longer first.
const dates: [RegExp, string][] = [
  [/^\d{4}-\d{2}-\d{2}(?!\d)/, 'yyyy-MM-dd'],
  [/^\d{4}_\d{2}_\d{2}(?!\d)/, 'yyyy_MM_dd'],
  [/^\d{4}\.\d{2}\.\d{2}(?!\d)/, 'yyyy.MM.dd'],
  [/^\d{1,2} [a-z]+ \d{4}(?!\d)/i, 'd MMMM yyyy'],
  [/^\d{2}\.\d{2}\.\d{4}(?!\d)/, 'dd.MM.yyyy'],
  [/^\d{2}-\d{2}-\d{4}(?!\d)/, 'dd-MM-yyyy'],
  [/^(?:19|20)\d{2}(?:0[1-9]|1[0-2])(?:0[1-9]|[12]\d|3[01])(?!\d)/, 'yyyyMMdd'],
  [/^\d{4}-W\d{2}(?!\d)/i, "YYYY-'W'ww"],
  [/^\d{4}-Q[1-4](?!\d)/i, "yyyy-'Q'Q"],
  [/^(?:19|20)\d{2}-(?:0[1-9]|1[0-2])(?!\d)/, 'yyyy-MM'],
  [new RegExp(`^(?:${months}) \\d{4}(?!\\d)`, 'i'), 'MMMM yyyy'],
  [/^(?:19|20)\d{2}(?!\d)/, 'yyyy'],
]

const units: Record<string, string> = { yyyy: 'year', 'yyyy-MM': 'month', 'MMMM yyyy': 'month', "YYYY-'W'ww": 'week', "yyyy-'Q'Q": 'quarter' }

/** Cuts a path into the parts that a pattern may be built from. */
export function split(path: string): Part[] {
  const parts: Part[] = []
  let rest = path
  while (rest) {
    const before = parts.at(-1)
    const fresh = !before || before.as === 'separator'
    const date = fresh ? dates.find(([expression]) => expression.test(rest)) : undefined
    if (date) {
      const text = date[0].exec(rest)![0]
      parts.push({ text, as: 'itself', name: units[date[1]] ?? 'day', form: date[1] })
      rest = rest.slice(text.length)
      continue
    }
    const text = /^(?:[/ _.-]+|\d+|[^/ _.\d-]+)/.exec(rest)![0]
    parts.push({ text, as: /^[/ _.-]/.test(text) ? 'separator' : 'itself', name: '', form: '' })
    rest = rest.slice(text.length)
  }
  return parts
}

/** Joins a part with those after it up to the end of its file or folder name. */
export function joinToEnd(parts: Part[], at: number): Part[] {
  let end = at + 1
  while (end < parts.length && !parts[end].text.includes('/')) end++
  // The extension stays what it is.
  if (end === parts.length) while (end > at + 1 && !/^\.$/.test(parts[end - 1].text)) end--
  if (parts[end - 1]?.text === '.') end--
  const text = parts.slice(at, end).map((p) => p.text)
  return [...parts.slice(0, at), { ...parts[at], text: text.join(''), form: '' }, ...parts.slice(end)]
}

function escape(text: string): string {
  return text.replace(/[\\*?[\]{}<>$]/g, '\\$&')
}

/** The pattern that the parts make. */
export function pattern(parts: Part[]): string {
  return parts
    .map((p) => {
      switch (p.as) {
        case 'varies':
          return `<${p.name}>`
        case 'number':
          return `<${p.name}:number>`
        case 'date':
          return `<${p.name}:${p.form}>`
        case 'any':
          return '*'
        default:
          return escape(p.text)
      }
    })
    .join('')
}
