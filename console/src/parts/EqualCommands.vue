<script setup lang="ts">
/** What a page does, as the equal `zesty` command and curl call, to be copied. */
import { computed } from 'vue'
import { quoted } from '../api/words'
import CopyLine from './CopyLine.vue'

const props = defineProps<{ zesty: string; method: string; path: string; body?: unknown }>()
const curl = computed(() => {
  const body = props.body === undefined ? '' : ` \\\n  -H 'Content-Type: application/json' -d ${quoted(JSON.stringify(props.body))}`
  return `curl -X ${props.method} ${quoted(location.origin + props.path)} \\\n  -H "Authorization: Bearer $ZESTY_KEY"${body}`
})
</script>

<template>
  <details class="equal">
    <summary class="soft">As a command</summary>
    <CopyLine :text="zesty" what="zesty command" />
    <CopyLine :text="curl" what="curl command" />
  </details>
</template>

<style scoped>
.equal { margin-top: 0.4rem; }
summary { cursor: pointer; font-size: 0.9em; }
</style>
