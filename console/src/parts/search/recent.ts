/** The last searches of this browser, a list for each collection. */

import type { UrlQuery } from './form'

const MOST = 8
const place = (collection: string) => `zesty-recent-searches/${collection}`

export function recentSearches(collection: string): UrlQuery[] {
  try {
    const kept: unknown = JSON.parse(localStorage.getItem(place(collection)) ?? '[]')
    return Array.isArray(kept) ? (kept as UrlQuery[]).slice(0, MOST) : []
  } catch {
    return []
  }
}

export function rememberSearch(collection: string, query: UrlQuery) {
  const same = JSON.stringify(query)
  const others = recentSearches(collection).filter((q) => JSON.stringify(q) !== same)
  try {
    localStorage.setItem(place(collection), JSON.stringify([query, ...others].slice(0, MOST)))
  } catch {
    // A full or forbidden storage only costs the list.
  }
}

export const forgetSearches = (collection: string) => localStorage.removeItem(place(collection))
