<script setup lang="ts">
/** A command with a button that copies it, or says that it cannot. */
import { ref, watch } from 'vue'
import Button from 'primevue/button'
import { copyText } from './copy'

const props = defineProps<{ text: string; what: string }>()
const state = ref<'' | 'copied' | 'refused'>('')
const shown = ref<HTMLElement | null>(null)
watch(() => props.text, () => (state.value = ''))
async function copy() {
  state.value = (await copyText(props.text)) ? 'copied' : 'refused'
  if (state.value === 'refused' && shown.value) getSelection()?.selectAllChildren(shown.value)
}
</script>

<template>
  <div class="line">
    <pre ref="shown" class="mono">{{ text }}</pre>
    <Button type="button" size="small" text :label="state === 'copied' ? 'Copied' : 'Copy'" :aria-label="`Copy the ${what}`" data-copy @click="copy" />
  </div>
  <div v-if="state === 'refused'" class="soft small" role="status">The browser does not let this page copy. The command is selected: copy it with Ctrl+C.</div>
</template>

<style scoped>
.line { display: flex; align-items: start; gap: 0.5rem; }
pre { flex: 1; margin: 0.3rem 0; padding: 0.4rem 0.6rem; background: var(--tint); border-radius: 4px; white-space: pre-wrap; overflow-wrap: anywhere; }
</style>
