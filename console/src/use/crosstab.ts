import type { Schemas } from './api'

type Line = Schemas['SummaryLine']

/** A summary laid out: the groups down, those across in columns, totals at the right. */
export function crosstab(t: Schemas['SummaryTable']) {
  // The lines of all rows come first, in the order of the groups across.
  const across: string[][] = []
  for (const l of t.lines) if (l.columns.length && !across.some((a) => same(a, l.columns))) across.push(l.columns)
  across.push([])
  const lines: { rows: string[]; cells: (Line | undefined)[] }[] = []
  for (const l of t.lines) {
    let line = lines.at(-1)
    if (!line || !same(line.rows, l.rows)) {
      line = { rows: l.rows, cells: across.map(() => undefined) }
      lines.push(line)
    }
    line.cells[across.findIndex((a) => same(a, l.columns))] = l
  }
  return { across, lines }
}

const same = (a: string[], b: string[]) => a.length === b.length && a.every((v, i) => v === b[i])

/** A group as it is shown. */
export const group = (value: string) => value || '(blank)'

/** Whether the figures of a measure are numbers. */
export const numeric = (measure: string) => !/^(least|most) /.test(measure)

/** How a figure moved, with its sign; empty if it did not, or is no number. */
export function moved(now: string, before: string | undefined): string {
  if (before === undefined || now === before || now === '' || before === '') return ''
  const places = Math.max(...[now, before].map((v) => v.split('.')[1]?.length ?? 0))
  const difference = Number(now) - Number(before)
  if (Number.isNaN(difference)) return ''
  return (difference > 0 ? '+' : '') + difference.toFixed(places)
}
