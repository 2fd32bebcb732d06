<script setup lang="ts">
/** Where a search begins: examples of this collection, recent searches of this browser, and the keys. */
import { computed, ref } from 'vue'
import Button from 'primevue/button'
import { api } from '../../api/client'
import { useQuery } from '../../api/query'
import { useCollection } from '../collection'
import QueryState from '../QueryState.vue'
import { exampleSearches } from './examples'
import type { UrlQuery } from './form'
import { forgetSearches, recentSearches } from './recent'

const { collection } = useCollection()
const name = computed(() => collection.value.name)
const examples = useQuery(
  () => [name.value, collection.value.revision],
  async (signal) => {
    const page = await api.records(name.value, { limit: 3 }, signal)
    const counted = await api.fields(name.value, { limit: 3 }, signal)
    return exampleSearches(collection.value, counted.fields, page.records)
  },
)
const recent = ref(recentSearches(name.value))
function forget() {
  forgetSearches(name.value)
  recent.value = []
}
const label = (q: UrlQuery) => (q.text ? `"${q.text}"` : q.example ? `like ${q.example}` : 'a vector')
</script>

<template>
  <div class="start" data-search-start>
    <section>
      <h2>Try one of these</h2>
      <QueryState v-slot="{ data }" :query="examples">
        <ul v-if="data.length" data-examples>
          <li v-for="e in data" :key="e.what + e.detail"><RouterLink :to="{ query: e.query }">{{ e.what }}</RouterLink><div class="soft small">{{ e.detail }}</div></li>
        </ul>
        <p v-else class="soft">
          <template v-if="!collection.n_records">The collection holds no records. <RouterLink :to="`/c/${encodeURIComponent(name)}/load`">Load a file</RouterLink> first.</template>
          <template v-else>No record has a vector yet, so there is nothing to find. <RouterLink :to="`/c/${encodeURIComponent(name)}`">See the vector columns</RouterLink>.</template>
        </p>
      </QueryState>
    </section>
    <section>
      <div class="row spread"><h2>Recent searches <span class="soft normal">of this browser</span></h2><Button v-if="recent.length" size="small" text label="Forget them" @click="forget" /></div>
      <ul v-if="recent.length" data-recent>
        <li v-for="q in recent" :key="JSON.stringify(q)"><RouterLink :to="{ query: q }">{{ label(q) }}</RouterLink><div v-if="q.filter" class="soft small">where {{ q.filter }}</div></li>
      </ul>
      <p v-else class="soft">None yet. A search that finds something is listed here.</p>
    </section>
    <section>
      <h2>Keys</h2>
      <dl class="pairs" data-keys>
        <dt><kbd>/</kbd></dt><dd>go to the query box</dd>
        <dt><kbd>Enter</kbd></dt><dd>search, from the query box or the filter</dd>
        <dt><kbd>n</kbd> <kbd>p</kbd></dt><dd>next and previous hits</dd>
        <dt><kbd>Tab</kbd></dt><dd>go to the next control; <kbd>Space</kbd> presses it</dd>
      </dl>
    </section>
  </div>
</template>

<style scoped>
.start { display: grid; grid-template-columns: minmax(0, 5fr) minmax(0, 4fr) minmax(0, 4fr); gap: 0 2rem; margin-top: 0.6rem; }
ul { list-style: none; margin: 0; padding: 0; }
li { padding: 0.35rem 0; border-bottom: 1px solid var(--line); overflow-wrap: anywhere; }
@media (max-width: 1000px) { .start { grid-template-columns: 1fr; } }
</style>
