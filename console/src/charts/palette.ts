/** Colours of charts: teal is exact, amber approximate; further indexes have hues of their own. */

import { onUnmounted, ref } from 'vue'

export const style = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(name).trim()

/** The colour of the n-th index of a chart: the first is amber. */
export const indexColour = (n: number) => (n === 0 ? style('--approx') : ['#5b6fb5', '#a04d7e', '#6b7f2e', '#8a6a4f', '#3d7f9c', '#7b5ea7'][(n - 1) % 6])

/** Counts changes of the theme: what reads it is drawn again with the new colours. */
export function useTheme() {
  const tick = ref(0)
  const observer = new MutationObserver(() => tick.value++)
  observer.observe(document.documentElement, { attributeFilter: ['class'] })
  onUnmounted(() => observer.disconnect())
  return tick
}
