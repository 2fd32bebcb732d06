/** What is asked stands in the URL. */

import { useRoute } from 'vue-router'

/** Reads words and numbers of the query string; what is not there is an empty word, or null. */
export function useUrlQuery() {
  const route = useRoute()
  const word = (key: string) => (typeof route.query[key] === 'string' ? route.query[key] : '')
  const number = (key: string) => (word(key) && Number.isFinite(Number(word(key))) ? Number(word(key)) : null)
  return { route, word, number }
}
