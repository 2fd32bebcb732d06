<script setup lang="ts" generic="T">
/** The four states of something read: first load, refreshing over old data, failed, there. */
import Skeleton from 'primevue/skeleton'
import type { Resource } from '../api/resource'
import FailureNote from './FailureNote.vue'

const props = defineProps<{ resource: Resource<T> }>()
const { data, loading, failure, refresh } = props.resource
</script>

<template>
  <FailureNote v-if="failure" :failure="failure" @retry="refresh" />
  <div v-if="data === null && loading" aria-busy="true" class="first">
    <Skeleton height="1.4rem" width="30%" /><Skeleton height="1.1rem" v-for="i in 4" :key="i" />
  </div>
  <div v-if="data !== null" :class="{ stale: loading || failure }" :aria-busy="loading"><slot :data="data" /></div>
</template>

<style scoped>
.first { display: grid; gap: 0.6rem; padding: 0.6rem 0; }
.stale { opacity: 0.6; transition: opacity 0.15s 0.2s; }
</style>
