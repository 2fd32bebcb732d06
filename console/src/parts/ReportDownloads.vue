<script setup lang="ts">
/** A measurement as a file: its rows as CSV or Parquet, all of it as JSON, its chart as PNG, or a page that needs no service. */
import { pathOf } from '../api/client'

const props = defineProps<{ collection: string; kind: 'sweep' | 'target' | 'comparison' | 'advice'; id: number }>()
const formats = ['csv', 'parquet', 'json', 'png', 'html']
const at = (format: string) => `${pathOf(props.collection)}/measurements/${props.id}/report?format=${format}`
</script>

<template>
  <span class="row saves"><i class="pi pi-download soft" aria-hidden="true" /><a v-for="f in formats" :key="f" :href="at(f)" :download="`${kind}-${id}.${f}`">{{ f.toUpperCase() }}</a></span>
</template>
