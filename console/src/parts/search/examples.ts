/** Three searches to begin with, made from what a collection holds. */

import { equals } from '../../api/filters'
import type { Collection, Field, Record_ } from '../../api/shapes'
import { plain, split } from '../../api/words'
import type { UrlQuery } from './form'

export interface ExampleSearch {
  what: string
  detail: string
  query: UrlQuery
}

const WORDS = 7
const LABEL = 90
const first = (text: string, most: number) => (text.length > most ? `${text.slice(0, most - 1)}…` : text)

/** The first words of a record's longest text. */
function phrase(record: Record_): string {
  const texts = split(record.fields).texts
  const strings = Object.values(record.fields).filter((v): v is string => typeof v === 'string')
  const longest = [...texts, ...strings].reduce((a, b) => (b.length > a.length ? b : a), '')
  // One clause is enough, and it should not end in "of" or "the".
  const clause = longest.split(/[.;:!?]\s/)[0] ?? ''
  const words = clause.split(/\s+/).slice(0, WORDS)
  while (words.length > 3 && (words.at(-1)?.length ?? 0) < 4) words.pop()
  return words.join(' ').replace(/[\s.,;:!?]+$/, '')
}

/** A frequent value of a field: it leaves some records out and several in. */
function frequent(fields: Field[], records: number): { field: string; filter: string } | null {
  for (const field of fields) {
    const top = field.values.find((v) => v.count > 1 && v.count < 0.7 * records)
    if (!field.stored_only && top && field.n_distinct <= 1000) {
      return { field: field.name, filter: equals(field.name, field.type, top.value) }
    }
  }
  return null
}

export function exampleSearches(collection: Collection, fields: Field[], records: Record_[]): ExampleSearch[] {
  const column = collection.columns.find((c) => c.name === collection.default_column)
  const [a, b = a, c = b] = records
  if (!column?.n_vectors || !a || !b || !c) return []
  const about = (r: Record_) => first(split(r.fields).texts[0] ?? Object.values(r.fields).map(plain).find((t) => t) ?? '', LABEL)
  const byText = (r: Record_) => (column.encoder && phrase(r) ? phrase(r) : '')
  const filtered = frequent(fields, collection.n_records)
  const examples: ExampleSearch[] = []
  const text = byText(a)
  examples.push(
    text
      ? { what: `"${text}"`, detail: `By text, which ${column.encoder ?? ''} encodes`, query: { text } }
      : { what: `Records like ${a.key}`, detail: about(a), query: { example: a.key } },
  )
  const other = byText(b)
  if (filtered) {
    const what = other ? `"${other}"` : `Records like ${b.key}`
    examples.push({ what, detail: `Only where ${filtered.filter}`, query: { ...(other ? { text: other } : { example: b.key }), filter: filtered.filter } })
  } else {
    examples.push({ what: `Records like ${b.key}`, detail: about(b), query: { example: b.key } })
  }
  examples.push(
    text || c === a || c === b
      ? { what: `Records like ${c.key}`, detail: about(c), query: { example: c.key } }
      : { what: `Records like ${a.key} and ${c.key} together`, detail: about(c), query: { example: `${a.key},${c.key}` } },
  )
  return examples
}
