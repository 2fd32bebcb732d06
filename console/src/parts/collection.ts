/** The collection that a page is about. CollectionFrame reads it once for all pages below it. */

import { computed, inject, provide, type ComputedRef, type InjectionKey } from 'vue'
import type { Query } from '../api/query'
import type { Collection } from '../api/shapes'

const KEY: InjectionKey<Query<Collection>> = Symbol('collection')

export const provideCollection = (query: Query<Collection>) => provide(KEY, query)

export interface CurrentCollection {
  collection: ComputedRef<Collection>
  refresh: () => Promise<void>
  /** Takes what a change of the collection answered. */
  put: (now: Collection) => void
}

/** Only for what CollectionFrame shows: it waits until the collection is there. */
export function useCollection(): CurrentCollection {
  const query = inject(KEY)
  if (!query) throw new Error('this page stands outside of a collection')
  const collection = computed(() => {
    if (!query.data.value) throw new Error('the collection is not read yet')
    return query.data.value
  })
  return {
    collection,
    refresh: query.refresh,
    put: (now) => (query.data.value = now),
  }
}
