<script setup lang="ts">
/** What a page does, as the equal `zesty` command and curl call, to be copied. */
import Button from 'primevue/button'
import { ref } from 'vue'

const props = defineProps<{ zesty: string; method: string; path: string; body?: unknown }>()
const copied = ref('')
const curl = () => {
  const body = props.body === undefined ? '' : ` \\\n  -H 'Content-Type: application/json' -d '${JSON.stringify(props.body).replaceAll("'", "'\\''")}'`
  return `curl -X ${props.method} ${location.origin}${props.path} \\\n  -H "Authorization: Bearer $ZESTY_KEY"${body}`
}
async function copy(what: string, text: string) {
  await navigator.clipboard.writeText(text)
  copied.value = what
  setTimeout(() => (copied.value = ''), 1500)
}
</script>

<template>
  <details class="equal">
    <summary class="soft">As a command</summary>
    <div class="line"><pre class="mono">{{ zesty }}</pre><Button size="small" text :label="copied === 'zesty' ? 'Copied' : 'Copy'" @click="copy('zesty', zesty)" /></div>
    <div class="line"><pre class="mono">{{ curl() }}</pre><Button size="small" text :label="copied === 'curl' ? 'Copied' : 'Copy'" @click="copy('curl', curl())" /></div>
  </details>
</template>

<style scoped>
.equal { margin-top: 0.4rem; }
summary { cursor: pointer; font-size: 0.9em; }
.line { display: flex; align-items: start; gap: 0.5rem; }
pre { flex: 1; margin: 0.3rem 0; padding: 0.4rem 0.6rem; background: var(--tint); border-radius: 4px; white-space: pre-wrap; overflow-wrap: anywhere; }
</style>
