/** Something that is done on a click: whether it is under way, and why it failed. */

import { computed, ref, shallowRef, type ComputedRef, type Ref } from 'vue'
import { asRefusal, isAbort, type Refusal } from './http'

export interface Action<A extends unknown[]> {
  run: (...args: A) => Promise<void>
  busy: ComputedRef<boolean>
  failure: Ref<Refusal | null>
}

/** A new run clears the failure of the last one. Runs may overlap: a second build can start while the first goes on. */
export function useAction<A extends unknown[]>(work: (...args: A) => Promise<unknown>): Action<A> {
  const running = ref(0)
  const failure = shallowRef<Refusal | null>(null)
  const run = async (...args: A) => {
    failure.value = null
    running.value++
    try {
      await work(...args)
    } catch (error) {
      if (!isAbort(error)) failure.value = asRefusal(error)
    } finally {
      running.value--
    }
  }
  return { run, busy: computed(() => running.value > 0), failure }
}
