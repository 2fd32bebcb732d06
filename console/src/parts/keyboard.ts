/** The keys of the console. `/` goes to the query box; `n` and `p` turn pages and digits choose, where a page has them. */

import { onBeforeUnmount, onMounted } from 'vue'

const TYPED_IN = /^(INPUT|TEXTAREA|SELECT)$/

export function useKeyboard() {
  const press = (event: KeyboardEvent) => {
    const target = event.target as HTMLElement
    if (event.ctrlKey || event.metaKey || event.altKey || TYPED_IN.test(target.tagName)) return
    if (event.key === '/') {
      const box = document.querySelector<HTMLInputElement>('[data-query-box]')
      if (!box) return
      event.preventDefault()
      box.focus()
      box.select()
    } else if (event.key === 'n' || event.key === 'p') {
      document.querySelector<HTMLButtonElement>(`button[data-page=${event.key === 'n' ? 'next' : 'previous'}]:not(:disabled)`)?.click()
    } else if (/^[1-9]$/.test(event.key)) {
      document.querySelector<HTMLButtonElement>(`button[data-digit="${event.key}"]:not(:disabled)`)?.click()
    }
  }
  onMounted(() => addEventListener('keydown', press))
  onBeforeUnmount(() => removeEventListener('keydown', press))
}
