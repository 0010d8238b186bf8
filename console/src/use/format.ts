const numbers = new Intl.NumberFormat('en')
const moments = new Intl.DateTimeFormat(undefined, { dateStyle: 'medium', timeStyle: 'short' })

export function number(n: number): string {
  return numbers.format(n)
}

/** A decimal given as text, grouped without rounding it. */
export function decimal(text: string): string {
  const [, sign, whole, fraction] = /^([+-]?)(\d+)(\.\d+)?$/.exec(text) ?? []
  if (whole === undefined) return text
  return sign + whole.replace(/\B(?=(\d{3})+$)/g, ',') + (fraction ?? '')
}

export function signed(n: number): string {
  return (n > 0 ? '+' : '') + number(n)
}

/** Bytes in units of 1000. */
export function bytes(n: number): string {
  let value = n
  let unit = 0
  while (value >= 999.5 && unit < 4) {
    value /= 1000
    unit++
  }
  const digits = unit === 0 || value >= 99.95 ? 0 : 1
  return `${value.toFixed(digits)} ${['B', 'KB', 'MB', 'GB', 'TB'][unit]}`
}

export function moment(time: string | undefined): string {
  return time ? moments.format(new Date(time)) : ''
}

export function word(code: string): string {
  return code.replaceAll('_', ' ')
}

export function count(n: number, one: string, many = one + 's'): string {
  return `${number(n)} ${n === 1 ? one : many}`
}

const leftOut: Record<string, string> = {
  no_pattern: 'match no pattern',
  not_listed: 'are not in the list',
  scratch_file: 'scratch files',
  own_delivery: 'delivered by Jorvex itself',
  own_content: 'copies of a delivery of Jorvex',
  leave_out_rule: 'left out by a rule',
  only_if_fails: 'fail a condition',
  outside_window: 'outside the period',
  not_latest: 'not the newest',
  not_yet: 'dated after today',
  passed_over: 'newest, not usable',
  same_content: 'the same content',
  held_in: 'held in by hand',
  held_out: 'held out by hand',
  listed: 'in the list',
  pattern_matches: 'match a pattern',
  not_seen: 'cannot be looked at',
  not_asked: 'not asked for',
  asked: 'asked for by name',
}

/** Why files have their verdict, in the plural. */
export function whyLeftOut(reason: string): string {
  return leftOut[reason] ?? word(reason)
}

/** A span of time in its largest unit that keeps it short. */
export function span(seconds: number): string {
  if (seconds >= 7200) return count(Math.round(seconds / 3600), 'hour')
  if (seconds >= 120) return count(Math.round(seconds / 60), 'minute')
  return count(Math.round(seconds * 10) / 10, 'second')
}
