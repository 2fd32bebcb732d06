<script setup lang="ts">
import Button from 'primevue/button'
import { api } from '../api/client'
import { useResource } from '../api/resource'
import { count, when } from '../api/words'
import ResourceState from '../parts/ResourceState.vue'
import ServingMark from '../parts/ServingMark.vue'

const collections = useResource(() => 0, api.collections)
</script>

<template>
  <div class="row spread"><h1>Collections</h1><RouterLink to="/load"><Button size="small" icon="pi pi-upload" label="New from a file" data-new /></RouterLink></div>
  <p class="soft lead">A collection is a set of records that share fields and vector columns.</p>
  <ResourceState :resource="collections" v-slot="{ data }">
    <div v-if="data.length" class="sheet scroll">
      <table class="plain" data-collections>
        <thead>
          <tr><th>Collection</th><th class="num">Records</th><th>Vector columns</th><th>Answers searches</th><th class="num">Revision</th><th>Created (UTC)</th></tr>
        </thead>
        <tbody>
          <tr v-for="c in data" :key="c.name">
            <td><RouterLink :to="`/c/${encodeURIComponent(c.name)}`"><strong>{{ c.name }}</strong></RouterLink><div class="soft">{{ c.description }}</div></td>
            <td class="num">{{ count(c.n_records) }}</td>
            <td><div v-for="v in c.columns" :key="v.name">{{ v.name }} <span class="soft">{{ v.dimensions }} dimensions, {{ v.metric }}<template v-if="v.encoder">, {{ v.encoder }}</template></span></div></td>
            <td><div v-for="v in c.columns" :key="v.name"><ServingMark :serving="v.serving" /></div></td>
            <td class="num">{{ count(c.revision) }}</td>
            <td class="soft">{{ when(c.created_at) }}</td>
          </tr>
        </tbody>
      </table>
    </div>
    <div v-else class="sheet">
      <strong>No collections yet.</strong>
      <p><RouterLink to="/load">Drop a file</RouterLink> of records or vectors, look at what it holds, and make a collection of it; or from a shell:</p>
      <pre class="mono">zesty inspect notes.parquet --write notes.json
zesty collection create --file notes.json
zesty load notes notes.parquet</pre>
    </div>
  </ResourceState>
</template>

<style scoped>
.lead { margin: 0.2rem 0 1rem; }
</style>
