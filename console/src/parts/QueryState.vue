<script setup lang="ts" generic="T">
/** The four states of something read: first load, refreshing over old data, failed, there. */
import Skeleton from 'primevue/skeleton'
import type { Query } from '../api/query'
import FailureNote from './FailureNote.vue'

const props = defineProps<{ query: Query<T> }>()
const { data, loading, failure, refresh } = props.query
</script>

<template>
  <FailureNote v-if="failure" :failure="failure" @retry="refresh" />
  <div v-if="data === null && loading" aria-busy="true" class="first">
    <Skeleton height="1.4rem" width="30%" /><Skeleton v-for="i in 4" :key="i" height="1.1rem" />
  </div>
  <div v-if="data !== null" :class="{ stale: loading || failure }" :aria-busy="loading"><slot :data="data" /></div>
</template>

<style scoped>
.first { display: grid; gap: 0.6rem; padding: 0.6rem 0; }
.stale { opacity: 0.6; transition: opacity 0.15s 0.2s; }
</style>
