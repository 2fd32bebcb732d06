/** Conditions as the filter builder shows them, to CQL2 text and from CQL2 JSON. */

import type { Field } from './shapes'

export interface Condition {
  field: string
  op: string
  values: string[]
}
export interface Built {
  join: 'and' | 'or'
  conditions: Condition[]
}
export interface Op {
  label: string
  value: string
  /** How many values it takes; -1: any number. */
  takes: number
}

const MISSING: Op[] = [{ label: 'is missing', value: 'missing', takes: 0 }, { label: 'is there', value: 'present', takes: 0 }]
const OPS: Record<'text' | 'ordered' | 'flag' | 'list', Op[]> = {
  text: [
    { label: 'is', value: '=', takes: 1 }, { label: 'is not', value: '<>', takes: 1 },
    { label: 'is one of', value: 'in', takes: -1 }, { label: 'contains', value: 'contains', takes: 1 },
    { label: 'is like', value: 'like', takes: 1 }, ...MISSING,
  ],
  ordered: [
    { label: '=', value: '=', takes: 1 }, { label: '≠', value: '<>', takes: 1 }, { label: '<', value: '<', takes: 1 },
    { label: '≤', value: '<=', takes: 1 }, { label: '>', value: '>', takes: 1 }, { label: '≥', value: '>=', takes: 1 },
    { label: 'from … to', value: 'between', takes: 2 }, { label: 'is one of', value: 'in', takes: -1 }, ...MISSING,
  ],
  flag: [{ label: 'is true', value: 'true', takes: 0 }, { label: 'is false', value: 'false', takes: 0 }, ...MISSING],
  list: [
    { label: 'has all of', value: 'a_contains', takes: -1 }, { label: 'has any of', value: 'a_overlaps', takes: -1 },
    { label: 'has nothing but', value: 'a_containedby', takes: -1 }, ...MISSING,
  ],
}

export function opsOf(type: string): Op[] {
  if (type === 'string') return OPS.text
  if (type === 'boolean') return OPS.flag
  return type.startsWith('array') ? OPS.list : OPS.ordered
}

const text = (value: string) => `'${value.replaceAll("'", "''")}'`
const name = (field: string) => (/^[a-z_][\w.]*$/i.test(field) ? field : `"${field}"`)

function literal(value: string, type: string): string {
  if (type === 'date') return `DATE(${text(value)})`
  if (type === 'timestamp') return `TIMESTAMP(${text(value)})`
  if (type === 'string' || type === 'array of strings') return text(value)
  return value.trim()
}

/** Nothing while a value is still to be given. */
export function conditionText(c: Condition, type: string): string | null {
  const op = opsOf(type).find((o) => o.value === c.op)
  const values = c.values.map((v) => v.trim()).filter((v) => v !== '')
  if (!op || (op.takes > 0 && values.length < op.takes) || (op.takes < 0 && !values.length)) return null
  const field = name(c.field)
  const given = values.map((v) => literal(v, type))
  switch (c.op) {
    case 'missing': return `${field} IS NULL`
    case 'present': return `${field} IS NOT NULL`
    case 'true': return field
    case 'false': return `${field} = FALSE`
    case 'in': return `${field} IN (${given.join(', ')})`
    case 'between': return `${field} BETWEEN ${given[0]} AND ${given[1]}`
    case 'like': return `${field} LIKE ${given[0]}`
    case 'contains': return `CASEI(${field}) LIKE CASEI(${text(`%${(values[0] ?? '').replace(/[\\%_]/g, '\\$&')}%`)})`
    case 'a_contains': case 'a_overlaps': case 'a_containedby': return `${c.op.toUpperCase()}(${field}, (${given.join(', ')}))`
    default: return `${field} ${c.op} ${given[0]}`
  }
}

export function builtText(built: Built, fields: Field[]): string {
  const type = (c: Condition) => fields.find((f) => f.name === c.field)?.type ?? 'string'
  const parts = built.conditions.map((c) => conditionText(c, type(c))).filter((p) => p !== null)
  return parts.join(built.join === 'and' ? ' AND ' : ' OR ')
}

type Json = { op?: string; args?: Json[]; property?: string; date?: string; timestamp?: string } | string | number | boolean | Json[]

function property(json: Json | undefined): string | null {
  return typeof json === 'object' && !Array.isArray(json) && typeof json.property === 'string' ? json.property : null
}

function value(json: Json | undefined): string | null {
  if (typeof json === 'object' && !Array.isArray(json)) return json.date ?? json.timestamp ?? null
  return json === undefined || Array.isArray(json) ? null : String(json)
}

function one(json: Json): Condition | null {
  const alone = property(json)
  if (alone) return { field: alone, op: 'true', values: [] }
  if (typeof json !== 'object' || Array.isArray(json) || !json.op) return null
  const args = json.args ?? []
  if (json.op === 'not') {
    const inner = args[0]
    const field = typeof inner === 'object' && !Array.isArray(inner) && inner.op === 'isNull' ? property(inner.args?.[0]) : null
    return field ? { field, op: 'present', values: [] } : null
  }
  if (json.op === 'like') {
    const folded = args.map((a) => (typeof a === 'object' && !Array.isArray(a) && a.op === 'casei' ? a.args?.[0] : null))
    const [field, pattern] = folded[0] ? [property(folded[0]), value(folded[1] ?? undefined)] : [null, null]
    if (field && pattern && /^%.*%$/s.test(pattern)) {
      const inner = pattern.slice(1, -1)
      if (!/(^|[^\\])[%_]/.test(inner)) return { field, op: 'contains', values: [inner.replace(/\\(.)/g, '$1')] }
    }
  }
  const field = property(args[0])
  if (!field) return null
  if (json.op === 'isNull') return { field, op: 'missing', values: [] }
  const list = json.op === 'in' || json.op.startsWith('a_')
  const given = (list ? (Array.isArray(args[1]) ? args[1] : null) : args.slice(1))?.map(value)
  if (!given || given.includes(null)) return null
  if (json.op === '=' && typeof args[1] === 'boolean') return { field, op: String(args[1]), values: [] }
  return { field, op: json.op, values: given as string[] }
}

/** Null when the filter says more than conditions joined one way. */
export function fromJson(json: unknown, fields: Field[]): Built | null {
  const tree = json as Json
  const joined = typeof tree === 'object' && !Array.isArray(tree) && (tree.op === 'and' || tree.op === 'or') ? tree : null
  const conditions = (joined ? joined.args ?? [] : [tree]).map(one)
  const known = (c: Condition | null) => {
    const field = fields.find((f) => f.name === c?.field)
    return !!field && opsOf(field.type).some((o) => o.value === c?.op)
  }
  if (!conditions.every(known)) return null
  return { join: joined?.op === 'or' ? 'or' : 'and', conditions: conditions as Condition[] }
}
