<script setup lang="ts">
/** What all pages of a collection share: the collection itself, or the news that there is none. */
import { computed } from 'vue'
import { api } from '../api/client'
import { useQuery } from '../api/query'
import { provideCollection } from '../parts/collection'
import QueryState from '../parts/QueryState.vue'

const props = defineProps<{ name: string }>()
const collection = useQuery(() => props.name, (signal) => api.collection(props.name, signal))
provideCollection(collection)
const missing = computed(() => (collection.failure.value?.word === 'unknown-name' ? collection.failure.value : null))
</script>

<template>
  <section v-if="missing" class="sheet" role="alert" data-missing>
    <h1>There is no collection "{{ name }}"</h1>
    <p>The service says: {{ missing.message }}</p>
    <p><RouterLink to="/">See all collections</RouterLink>, or <RouterLink to="/load">make one from a file</RouterLink>.</p>
  </section>
  <QueryState v-else :query="collection"><RouterView /></QueryState>
</template>
