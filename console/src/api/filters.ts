/** Pieces of CQL2 text, made from values that were clicked. */

const text = (s: string) => `'${s.replaceAll("'", "''")}'`

export function equals(field: string, type: string, value: unknown): string {
  if (type.startsWith('array')) return `A_CONTAINS(${field}, (${typeof value === 'string' ? text(value) : String(value)}))`
  if (type === 'date') return `${field} = DATE('${String(value)}')`
  if (type === 'timestamp') return `${field} = TIMESTAMP('${String(value)}')`
  if (type === 'boolean') return value ? field : `NOT ${field}`
  return `${field} = ${typeof value === 'string' ? text(value) : String(value)}`
}

/** Both must hold. */
export const and = (a: string, b: string) => (a.trim() ? `${/\bor\b/i.test(a) ? `(${a})` : a} AND ${b}` : b)
