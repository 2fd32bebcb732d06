<script setup lang="ts">
import { computed, ref } from 'vue'
import Button from 'primevue/button'
import { api } from '../api/client'
import { useResource } from '../api/resource'
import { bytes, count, kind, leaves } from '../api/words'
import ColumnTools from '../parts/ColumnTools.vue'
import CostTable from '../parts/CostTable.vue'
import RecordText from '../parts/RecordText.vue'
import ResourceState from '../parts/ResourceState.vue'
import ServingMark from '../parts/ServingMark.vue'

const props = defineProps<{ name: string }>()
const collection = useResource(() => props.name, () => api.collection(props.name))
const at = (tail: string) => `/c/${encodeURIComponent(props.name)}${tail}`

// Records, a page at a time; the way back is remembered.
const trail = ref<(string | null)[]>([null])
const records = useResource(
  () => [props.name, trail.value.length],
  () => api.records(props.name, trail.value[trail.value.length - 1] ?? null, 12),
)
const next = computed(() => records.data.value?.next ?? null)
</script>

<template>
  <ResourceState :resource="collection" v-slot="{ data: c }">
    <div class="row spread">
      <div><h1>{{ c.name }}</h1><div class="soft">{{ c.description }}</div></div>
      <div class="row facts">
        <div><b class="num" data-count>{{ count(c.n_records) }}</b><span class="soft">records</span></div>
        <div><b class="num">{{ count(c.revision) }}</b><span class="soft">revision</span></div>
        <div><b class="num">{{ leaves(c.fields.properties).length }}</b><span class="soft">fields</span></div>
        <div><b class="num">{{ c.indexes.length }}</b><span class="soft">{{ c.indexes.length === 1 ? 'index' : 'indexes' }}</span></div>
        <RouterLink :to="at('/load')"><Button size="small" outlined icon="pi pi-upload" label="Load" /></RouterLink>
        <RouterLink :to="at('/search')"><Button size="small" icon="pi pi-search" label="Search" /></RouterLink>
        <RouterLink :to="at('/tuning')"><Button size="small" outlined icon="pi pi-chart-line" label="Tune" /></RouterLink>
      </div>
    </div>

    <div class="two">
      <section>
        <h2>Vector columns</h2>
        <div class="sheet scroll">
          <table class="plain">
            <thead><tr><th>Column</th><th class="num">Dimensions</th><th>Metric</th><th>Encoder reads</th><th class="num">Vectors</th><th class="num">Memory</th><th>Answers searches</th></tr></thead>
            <tbody>
              <tr v-for="v in c.columns" :key="v.name">
                <td><strong>{{ v.name }}</strong></td><td class="num">{{ count(v.dimensions) }}</td><td>{{ v.metric }}</td>
                <td><template v-if="v.encoder">{{ v.encoder }} <code class="soft">{{ v.template }}</code></template><span v-else class="soft">no encoder</span></td>
                <td class="num">{{ count(v.n_vectors) }}</td><td class="num">{{ bytes(v.n_bytes_memory) }}</td><td><ServingMark :serving="v.serving" /></td>
              </tr>
            </tbody>
          </table>
          <ColumnTools :collection="c" @changed="collection.refresh" />
        </div>

        <h2>Indexes</h2>
        <div class="sheet scroll">
          <table v-if="c.indexes.length" class="plain">
            <thead><tr><th>Index</th><th>Recipe</th><th>State</th><th class="num">Rows</th><th class="num">Memory</th><th class="num">File</th></tr></thead>
            <tbody>
              <tr v-for="i in c.indexes" :key="i.name">
                <td><strong>{{ i.name }}</strong> <i v-if="i.serving" class="pi pi-lightbulb lamp" title="Serving choice" /></td>
                <td><code>{{ i.recipe }}</code></td><td>{{ i.state }}</td>
                <td class="num">{{ count(i.n_rows) }}</td><td class="num">{{ bytes(i.n_bytes_memory) }}</td><td class="num">{{ bytes(i.n_bytes_file) }}</td>
              </tr>
            </tbody>
          </table>
          <p v-else class="soft none">No index yet: searches look at every record.</p>
          <RouterLink :to="at('/indexes')">{{ c.indexes.length ? 'Build, compare and measure indexes' : 'Build one to search faster' }}</RouterLink>
        </div>

        <h2>What it costs</h2>
        <div class="sheet scroll"><CostTable :name="name" :revision="c.revision" /></div>
      </section>

      <section>
        <h2>Fields</h2>
        <div class="sheet fields">
          <table class="plain">
            <thead><tr><th>Field</th><th>Type</th><th>Description</th></tr></thead>
            <tbody>
              <tr v-for="[field, p] in leaves(c.fields.properties)" :key="field"><td><code>{{ field }}</code></td><td class="nowrap">{{ kind(p) }}</td><td class="soft">{{ p.description }}<template v-if="p.refersTo"> → {{ p.refersTo }}</template><template v-if="p.storedOnly"> (stored only)</template></td></tr>
              <tr v-if="!leaves(c.fields.properties).length"><td colspan="3" class="soft">No fields were described.</td></tr>
            </tbody>
          </table>
        </div>
      </section>
    </div>
  </ResourceState>

  <div class="row spread">
    <h2>Records <span class="soft normal">in order of their keys</span></h2>
    <div class="row">
      <Button size="small" text icon="pi pi-angle-left" label="Back" :disabled="trail.length === 1" @click="trail = trail.slice(0, -1)" />
      <span class="soft">page {{ trail.length }}</span>
      <Button size="small" text icon="pi pi-angle-right" icon-pos="right" label="Next" :disabled="!next" @click="trail = [...trail, next]" />
    </div>
  </div>
  <ResourceState :resource="records" v-slot="{ data }">
    <div class="sheet scroll">
      <table v-if="data.records.length" class="plain" data-records>
        <thead><tr><th>Key</th><th>Record</th><th></th></tr></thead>
        <tbody>
          <tr v-for="r in data.records" :key="r.key">
            <td><code class="nowrap">{{ r.key }}</code></td>
            <td><RecordText :fields="r.fields" short /></td>
            <td><RouterLink class="nowrap" :to="{ path: at('/search'), query: { like: r.key } }">more like this</RouterLink></td>
          </tr>
        </tbody>
      </table>
      <p v-else class="soft none">No records yet. <RouterLink :to="at('/load')">Load a file</RouterLink>, or from a shell: <code>zesty load {{ name }} FILE</code></p>
    </div>
  </ResourceState>
</template>

<style scoped>
.facts > div { display: flex; flex-direction: column; align-items: end; line-height: 1.2; margin-right: 0.5rem; }
.facts b { font-size: 1.15rem; font-weight: 600; }
.two { display: grid; grid-template-columns: minmax(0, 5fr) minmax(0, 3fr); gap: 0 1rem; }
.fields { padding-top: 0.3rem; }
.lamp { color: #b58900; }
.none { margin: 0.2rem 0 0.4rem; }
.nowrap { white-space: nowrap; }
.normal { font-weight: 400; }
@media (max-width: 1000px) { .two { grid-template-columns: 1fr; } }
</style>
