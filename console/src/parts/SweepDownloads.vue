<script setup lang="ts">
/** A sweep as a file: its points as CSV or Parquet, all of it as JSON, or a page that needs no service. */
import { pathOf } from '../api/client'
import type { Sweep } from '../api/shapes'

const props = defineProps<{ collection: string; sweep: Sweep }>()
const formats = ['csv', 'parquet', 'json', 'html']
const at = (format: string) => `${pathOf(props.collection)}/sweeps/${props.sweep.id}/report?format=${format}`
</script>

<template>
  <span class="row saves"><i class="pi pi-download soft" aria-hidden="true" /><a v-for="f in formats" :key="f" :href="at(f)" :download="`sweep-${sweep.id}.${f}`">{{ f.toUpperCase() }}</a></span>
</template>
