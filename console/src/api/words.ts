/** Numbers and values as people read them. */

import type { CompareSide, CostOf, Property, SearchCost, Settings, Strategy, Sweep, SweepPoint } from './shapes'

export const count = (n: number) => Math.round(n).toLocaleString('en')

export function bytes(n: number): string {
  if (n < 1e3) return `${n} B`
  if (n < 1e6) return `${(n / 1e3).toFixed(1)} kB`
  if (n < 1e9) return `${(n / 1e6).toFixed(1)} MB`
  return `${(n / 1e9).toFixed(2)} GB`
}

/** Microseconds in the unit that reads best. */
export function micros(us: number): string {
  if (us < 1e3) return `${us.toFixed(0)} µs`
  if (us < 1e6) return `${(us / 1e3).toFixed(2)} ms`
  return `${(us / 1e6).toFixed(1)} s`
}

export const seconds = (s: number) => (s < 120 ? `${s.toFixed(1)} s` : `${(s / 60).toFixed(0)} min`)

export const when = (iso: string) => new Date(iso).toISOString().replace('T', ' ').slice(0, 16)

export function kind(p: Property): string {
  if (p.type === 'array') return `array of ${p.items?.type}s`
  if (p.format === 'date') return 'date'
  if (p.format === 'date-time') return 'timestamp'
  return p.type
}

/** The fields of a schema by dotted path, objects opened. */
export function leaves(properties: Record<string, Property>, path = ''): [string, Property][] {
  return Object.entries(properties).flatMap(([name, p]) =>
    p.type === 'object' ? leaves(p.properties ?? {}, `${path}${name}.`) : [[`${path}${name}`, p] as [string, Property]],
  )
}

export function plain(value: unknown): string {
  if (value === null || value === undefined) return ''
  if (Array.isArray(value)) return value.map(plain).join(', ')
  if (typeof value === 'object') return JSON.stringify(value)
  return String(value)
}

/** The long texts of a record, and its short values. */
export function split(fields: Record<string, unknown>): { texts: string[]; short: [string, string][] } {
  const texts: string[] = []
  const short: [string, string][] = []
  for (const [name, value] of Object.entries(fields)) {
    const text = plain(value)
    if (text.length > 48) texts.push(text)
    else if (text) short.push([name, text])
  }
  return { texts, short }
}

/** A word for the shell, in single quotes where it needs them. */
export const quoted = (s: string) => (/^[\w./:@,=-]+$/.test(s) ? s : `'${s.replaceAll("'", "'\\''")}'`)

/** `beam 40, rescore 3` */
export const settingsText = (s: Settings | null | undefined) =>
  (['beam', 'visit', 'rescore'] as const).filter((w) => typeof s?.[w] === 'number').map((w) => `${w} ${s?.[w]}`).join(', ')
/** How likely counts are by chance. */
export const chanceText = (p: number) => (p < 0.001 ? 'p < 0.001' : `p ${p.toFixed(3)}`)

/** `graph-1,beam=40` or `exact,column=small`: a side of a comparison as the command line has it. */
export const sideText = (s: CompareSide) =>
  [s.index ?? 'exact', s.column && `column=${s.column}`, ...(['beam', 'visit', 'rescore'] as const).map((w) => s.settings?.[w] && `${w}=${s.settings[w]}`)].filter(Boolean).join(',')
/** The setting that trades recall for speed, and its value. */
export const mainSetting = (s: Settings): ['beam' | 'visit', number] => (typeof s.visit === 'number' ? ['visit', s.visit] : ['beam', s.beam ?? 0])

/** A recall, with the digits that tell good ones apart. */
export const recallText = (r: number) => r.toFixed(4)
/** `beam 40 · k 10 · 2 clients`: what sets a point of a sweep apart from the others of its index. */
export const pointText = (p: SweepPoint, sweep: Sweep) =>
  [settingsText(severalOf(sweep.spec.rescores ?? undefined) || !mainOf(p.settings) ? p.settings : { ...p.settings, rescore: null }) || 'no settings', severalOf(sweep.spec.k) && `k ${p.k}`, severalOf(sweep.spec.clients) && `${p.clients} clients`].filter(Boolean).join(' · ')
const mainOf = (s: Settings) => s.beam ?? s.visit
const severalOf = (list: number[] | undefined) => (list?.length ?? 0) > 1

/** What a search did, by the name of its strategy. */
export const strategyWords: Record<Strategy, string> = {
  'scan-all': 'scanned every record',
  'scan-allowed': 'scanned the allowed records',
  'scan-stored': "scanned the index's codes",
  walk: 'walked the graph',
  'walk-allowed': 'walked wider under the filter',
  visit: 'visited the nearest cells',
  'visit-allowed': 'visited cells under the filter',
}

/** What a search spends its time on, several of them. */
export const costWords: Record<CostOf, string> = {
  search: 'to begin with',
  distance: 'distances',
  stored: 'stored records',
  checked: 'blocks checked',
  compared: 'blocks compared',
  picked: 'records compared',
  newer: 'newer records',
}
/** `250 blocks compared × 71 ns`, or what it takes whatever it looks at. */
export const costText = (c: SearchCost) => (c.of === 'search' ? `${micros(c.ns_each / 1000)} ${costWords.search}` : `${count(c.n)} ${costWords[c.of]} × ${c.ns_each.toFixed(0)} ns`)
