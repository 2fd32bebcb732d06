<script setup lang="ts">
/** What failed, why, what to do, and the id to find it by. */
import Button from 'primevue/button'
import type { Refusal } from '../api/http'

withDefaults(defineProps<{ failure: Refusal; again?: boolean }>(), { again: true })
defineEmits<{ retry: [] }>()
</script>

<template>
  <div class="failure" role="alert">
    <strong>{{ failure.title }}.</strong> <span>{{ failure.message }}</span>
    <div class="soft small">
      <template v-if="failure.status === 401">Run <code>zesty console</code> and open the link that it prints. </template>
      <code>{{ failure.word }}</code><template v-if="failure.requestId"> · request {{ failure.requestId }}</template>
      <Button v-if="again" size="small" text label="Try again" icon="pi pi-refresh" @click="$emit('retry')" />
    </div>
  </div>
</template>

<style scoped>
.failure { border: 1px solid var(--wrong); border-left-width: 4px; border-radius: 4px; padding: 0.5rem 0.8rem; background: var(--sheet); margin: 0.5rem 0; }
strong { color: var(--wrong); }
.small { margin-top: 0.2rem; }
</style>
