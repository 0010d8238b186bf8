<script setup lang="ts">
import { computed } from 'vue'

import type { Schemas } from '../use/api'
import type { Definition } from '../use/definition'

const props = defineProps<{ definition: Definition; captures: Schemas['Field'][]; rules: Schemas['Rule'][] }>()

const kinds = ['', 'this', 'to date', 'last', 'previous', 'from'] as const
const kindWords: Record<string, string> = { '': 'any date', 'to date': 'so far this', from: 'from … to …' }
const units = ['day', 'week', 'month', 'quarter', 'year']
const dates = computed(() => [...props.captures.filter((c) => c.kind === 'date').map((c) => c.name), 'modified'])
// The last date of a pattern is usually the finest.
const usual = computed(() => dates.value.at(-2) ?? 'modified')

type Shown = { span: string; of?: string; off?: boolean }

const shown = computed<Shown | undefined>(() => {
  const w = props.definition.plain.value.window
  if (typeof w === 'string' || typeof w === 'number') return { span: String(w) }
  return w && typeof w === 'object' ? { ...(w as Shown), span: String((w as Shown).span) } : undefined
})

const read = computed(() => {
  const span = shown.value?.span ?? ''
  let m = /^this (\w+)$/.exec(span)
  if (m) return { kind: 'this', n: 1, unit: m[1], from: '', to: '' }
  if ((m = /^(\w+) to date$/.exec(span))) return { kind: 'to date', n: 1, unit: m[1], from: '', to: '' }
  if ((m = /^(last|previous) (?:(\d+) )?(\w+?)s?$/.exec(span))) return { kind: m[1], n: Number(m[2] ?? 1), unit: m[3], from: '', to: '' }
  if ((m = /^(?:from (\S+))?(?: ?to (\S+))?$/.exec(span)) && span) return { kind: 'from', n: 1, unit: 'month', from: m[1] ?? '', to: m[2] ?? '' }
  return { kind: span ? 'other' : '', n: 1, unit: 'week', from: '', to: '' }
})

function write(change: Partial<typeof read.value> & { of?: string; off?: boolean }, typing = false) {
  const w = { ...read.value, ...change }
  let span = ''
  if (w.kind === 'this') span = `this ${w.unit}`
  else if (w.kind === 'to date') span = `${w.unit} to date`
  else if (w.kind === 'last' || w.kind === 'previous') span = w.n > 1 ? `${w.kind} ${w.n} ${w.unit}s` : `${w.kind} ${w.unit}`
  else if (w.kind === 'from') span = [w.from && `from ${w.from}`, w.to && `to ${w.to}`].filter(Boolean).join(' ') || 'from 2026-01-01'
  else if (w.kind === 'other') span = shown.value!.span
  const of = change.of ?? shown.value?.of ?? usual.value
  const off = change.off ?? shown.value?.off
  props.definition.set(['window'], span ? { span, of, ...(off ? { off } : {}) } : undefined, typing)
}

const latest = computed(() => {
  const l = props.definition.plain.value.latest
  if (typeof l === 'string') return { of: l, per: [] as string[], keep: 1, future: false, fallback: 'none', off: false }
  if (!l || typeof l !== 'object') return undefined
  const given = l as { of?: string; per?: string | string[]; keep?: number; future?: boolean; fallback?: string; off?: boolean }
  return {
    of: given.of ?? 'modified',
    per: typeof given.per === 'string' ? [given.per] : (given.per ?? []),
    keep: given.keep ?? 1,
    future: given.future ?? false,
    fallback: given.fallback ?? 'none',
    off: given.off ?? false,
  }
})

function writeLatest(change: Partial<NonNullable<typeof latest.value>> | undefined) {
  if (!change) {
    props.definition.set(['latest'], undefined)
    return
  }
  const l = { of: usual.value, per: [] as string[], keep: 1, future: false, fallback: 'none', off: false, ...latest.value, ...change }
  props.definition.set(['latest'], {
    of: l.of,
    ...(l.per.length ? { per: l.per } : {}),
    ...(l.keep > 1 ? { keep: l.keep } : {}),
    ...(l.future ? { future: true } : {}),
    ...(l.fallback === 'previous' ? { fallback: 'previous' } : {}),
    ...(l.off ? { off: true } : {}),
  })
}

const met = (kind: string) => props.rules.find((r) => r.kind === kind)
const value = (e: Event) => (e.target as HTMLInputElement).value
const checked = (e: Event) => (e.target as HTMLInputElement).checked

function per(name: string, on: boolean) {
  const now = latest.value!.per.filter((p) => p !== name)
  writeLatest({ per: on ? [...now, name] : now })
}
</script>

<template>
  <section aria-label="Period">
    <h2>Period</h2>
    <div class="line">
      <select :value="read.kind" aria-label="Window" @change="(e) => write({ kind: value(e), ...(value(e) === 'from' ? { from: '2026-01-01' } : {}) })">
        <option v-for="k in kinds" :key="k" :value="k">{{ kindWords[k] ?? k }}</option>
        <option v-if="read.kind === 'other'" value="other">{{ shown?.span }}</option>
      </select>
      <template v-if="read.kind === 'last' || read.kind === 'previous'">
        <input type="number" min="1" class="few" aria-label="How many" :value="read.n" @input="(e) => write({ n: Number(value(e)) }, true)" />
      </template>
      <select v-if="['this', 'to date', 'last', 'previous'].includes(read.kind)" :value="read.unit" aria-label="Unit" @change="(e) => write({ unit: value(e) })">
        <option v-for="u in units" :key="u" :value="u">{{ read.n > 1 ? u + 's' : u }}</option>
      </select>
      <template v-if="read.kind === 'from'">
        <input class="some" aria-label="From" placeholder="2026-01-01" :value="read.from" @input="(e) => write({ from: value(e) }, true)" />
        to
        <input class="some" aria-label="To" placeholder="open" :value="read.to" @input="(e) => write({ to: value(e) }, true)" />
      </template>
      <template v-if="read.kind">
        by
        <select :value="shown?.of ?? usual" aria-label="Date" @change="(e) => write({ of: value(e) })">
          <option v-for="d in dates" :key="d">{{ d }}</option>
        </select>
        <label><input type="checkbox" :checked="!shown?.off" @change="(e) => write({ off: !checked(e) })" /> on</label>
        <span class="quiet">{{ met('window')?.files ?? 0 }} outside</span>
      </template>
    </div>
  </section>
  <section aria-label="Newest only">
    <h2>Newest only</h2>
    <div class="line">
      <label><input type="checkbox" :checked="!!latest" @change="(e) => writeLatest(checked(e) ? {} : undefined)" /> keep only the newest</label>
      <template v-if="latest">
        <input type="number" min="1" class="few" aria-label="How many are kept" :value="latest.keep" @change="(e) => writeLatest({ keep: Math.max(1, Number(value(e))) })" />
        by
        <select :value="latest.of" aria-label="Newest by" @change="(e) => writeLatest({ of: value(e) })">
          <option v-for="c in [...captures.map((c) => c.name), 'modified']" :key="c">{{ c }}</option>
        </select>
        <span class="quiet">{{ met('latest')?.files ?? 0 }} others left out</span>
      </template>
    </div>
    <div v-if="latest" class="line">
      <template v-if="captures.length > 1">
        for each
        <label v-for="c in captures.filter((c) => c.name !== latest!.of)" :key="c.name">
          <input type="checkbox" :checked="latest.per.includes(c.name)" @change="(e) => per(c.name, checked(e))" /> {{ c.name }}
        </label>
      </template>
      <label><input type="checkbox" :checked="latest.future" @change="(e) => writeLatest({ future: checked(e) })" /> dates to come count</label>
      <label title="When the newest is broken or not fully seen, the one before it is used">
        <input type="checkbox" :checked="latest.fallback === 'previous'" @change="(e) => writeLatest({ fallback: checked(e) ? 'previous' : 'none' })" /> fall back to the
        one before
      </label>
    </div>
  </section>
</template>

<style scoped>
.line {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 8px;
  align-items: center;
  margin-bottom: 4px;
}

.few {
  width: 4.5em;
}

.some {
  width: 8em;
}
</style>
