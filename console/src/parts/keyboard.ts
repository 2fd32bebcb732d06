/** `/` goes to the query box, wherever it is shown. */

import { onBeforeUnmount, onMounted } from 'vue'

export function useKeyboard() {
  const press = (event: KeyboardEvent) => {
    const target = event.target as HTMLElement
    if (event.key !== '/' || event.ctrlKey || event.metaKey || /^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName)) return
    const box = document.querySelector<HTMLInputElement>('[data-query-box]')
    if (box) {
      event.preventDefault()
      box.focus()
      box.select()
    }
  }
  onMounted(() => addEventListener('keydown', press))
  onBeforeUnmount(() => removeEventListener('keydown', press))
}
