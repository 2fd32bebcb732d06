<script setup lang="ts">
/** The definition of a saved search as JSON, with what can stand in it. */
import { computed } from 'vue'
import Textarea from 'primevue/textarea'

const text = defineModel<string>({ required: true })
const fault = computed(() => {
  try {
    JSON.parse(text.value)
    return ''
  } catch (error) {
    return error instanceof Error ? error.message : String(error)
  }
})
</script>

<template>
  <div class="field gap">
    <label for="definition">Definition</label>
    <Textarea id="definition" v-model="text" class="mono" :rows="Math.min(24, text.split('\n').length + 1)" spellcheck="false" :invalid="!!fault" />
    <div v-if="fault" class="bad small" role="status">{{ fault }}</div>
  </div>
  <p class="soft small">In the search, <code>{"parameter": "q"}</code> stands for a value; in its filter, <code>:q</code> does. Parameters are described with JSON Schema. With <code>"optional": true</code>, a condition is left out when its value is.</p>
</template>

<style scoped>
textarea { width: 100%; }
textarea.mono { font-family: ui-monospace, 'DejaVu Sans Mono', monospace; font-size: 0.92em; }
p { margin: 0.3rem 0 0; }
</style>
