/** Saved searches: their parameters as a form, and what is typed as values. */

import type { Parameter, SavedSearch, SavedVersion } from '../../api/shapes'

/** The version that is shown first: the one that answers, or the newest. */
export const shownVersion = (saved: SavedSearch): SavedVersion | undefined =>
  saved.versions.find((v) => v.version === saved.live) ?? saved.versions[0]

/** What is done when nothing is typed. */
export const absent = (about: Parameter): string =>
  about.default != null ? `${JSON.stringify(about.default)} when empty` : about.optional ? 'left out when empty' : 'needed'

/** What was typed as the JSON value of a parameter: a list has commas between its items. */
export function typed(about: Parameter, text: string): unknown {
  const one = (type: string, word: string): unknown => {
    if (type === 'integer' || type === 'number') return word !== '' && Number.isFinite(Number(word)) ? Number(word) : word
    if (type === 'boolean') return word === 'true' ? true : word === 'false' ? false : word
    return word
  }
  if (!about.items) return one(about.type, text)
  const { type } = about.items
  return text.split(',').map((word) => one(type, word.trim()))
}

/** A value as it stands in a query string: strings of a list stand one by one, numbers with commas between. */
export const asTexts = (value: unknown): string[] =>
  Array.isArray(value) && value.some((v) => typeof v === 'string') ? value.map(String) : [String(value)]

/** A definition to begin with. */
export function example(byText: boolean, fields: string[]): string {
  const query = byText
    ? { search: { text: { parameter: 'q' } }, parameters: { q: { type: 'string', maxLength: 500 } } }
    : { search: { examples: { parameter: 'like' } }, parameters: { like: { type: 'string', description: 'A record key' } } }
  const definition = {
    description: '',
    search: { ...query.search, k: { parameter: 'n' }, ...(fields.length ? { fields: fields.slice(0, 3) } : {}) },
    parameters: { ...query.parameters, n: { type: 'integer', minimum: 1, maximum: 50, default: 10 } },
  }
  return JSON.stringify(definition, null, 2)
}
