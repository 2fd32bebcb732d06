/** One thing read from the service: its data, whether a request is under way, and its failure. */

import { onScopeDispose, ref, shallowRef, watch, type Ref } from 'vue'
import type { Refusal } from './client'

export interface Resource<T> {
  /** Stays while it is refreshed. */
  data: Ref<T | null>
  loading: Ref<boolean>
  failure: Ref<Refusal | null>
  refresh: () => Promise<void>
}

/** Reads again whenever what `source` looks at changes. A superseded answer is dropped. */
export function useResource<T>(source: () => unknown, read: () => Promise<T>): Resource<T> {
  const data = shallowRef<T | null>(null) as Ref<T | null>
  const loading = ref(false)
  const failure = shallowRef<Refusal | null>(null)
  let turn = 0
  const refresh = async () => {
    const mine = ++turn
    loading.value = true
    try {
      const answer = await read()
      if (mine === turn) {
        data.value = answer
        failure.value = null
      }
    } catch (error) {
      if (mine === turn) failure.value = error as Refusal
    } finally {
      if (mine === turn) loading.value = false
    }
  }
  watch(
    source,
    () => {
      data.value = null
      void refresh()
    },
    { immediate: true },
  )
  onScopeDispose(() => turn++)
  return { data, loading, failure, refresh }
}
