/** Something read from the service: its data, whether a request is under way, and its failure. */

import { onScopeDispose, ref, shallowRef, watch, type Ref } from 'vue'
import { asRefusal, isAbort, type Refusal } from './http'

export interface Query<T> {
  /** Null before the first answer. It stays while it is read again. */
  data: Ref<T | null>
  loading: Ref<boolean>
  failure: Ref<Refusal | null>
  refresh: () => Promise<void>
}

export interface QueryOptions {
  /** Milliseconds that `source` has to rest before it is read; for what is typed. */
  rest?: number
  /** Keep the data of the last source until the new answer is there. */
  keep?: boolean
}

/** Reads again whenever `source` changes. A newer read, and the end of the page, abort the one under way. */
export function useQuery<T>(source: () => unknown, read: (signal: AbortSignal) => Promise<T>, options: QueryOptions = {}): Query<T> {
  const data = shallowRef<T | null>(null) as Ref<T | null>
  const loading = ref(false)
  const failure = shallowRef<Refusal | null>(null)
  let running: AbortController | null = null
  let resting = 0
  const refresh = async () => {
    running?.abort()
    const mine = (running = new AbortController())
    loading.value = true
    try {
      const answer = await read(mine.signal)
      if (mine.signal.aborted) return
      data.value = answer
      failure.value = null
    } catch (error) {
      if (!mine.signal.aborted && !isAbort(error)) failure.value = asRefusal(error)
    } finally {
      if (running === mine) loading.value = false
    }
  }
  watch(
    source,
    (_, before) => {
      running?.abort()
      clearTimeout(resting)
      if (!options.keep) data.value = failure.value = null
      if (options.rest && before !== undefined) resting = window.setTimeout(() => void refresh(), options.rest)
      else void refresh()
    },
    { immediate: true },
  )
  onScopeDispose(() => {
    clearTimeout(resting)
    running?.abort()
  })
  return { data, loading, failure, refresh }
}
