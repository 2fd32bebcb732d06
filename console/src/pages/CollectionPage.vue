<script setup lang="ts">
import { computed, ref } from 'vue'
import Button from 'primevue/button'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import { api } from '../api/client'
import { useQuery } from '../api/query'
import { propertiesOf, type Column as VectorColumn, type Index, type Property, type Record_ } from '../api/shapes'
import { bytes, count, kind, leaves } from '../api/words'
import { useCollection } from '../parts/collection'
import ColumnTools from '../parts/ColumnTools.vue'
import CostTable from '../parts/CostTable.vue'
import NameTools from '../parts/NameTools.vue'
import NextStep from '../parts/NextStep.vue'
import QueryState from '../parts/QueryState.vue'
import RecordText from '../parts/RecordText.vue'
import ServingMark from '../parts/ServingMark.vue'

const { collection: c } = useCollection()
const at = (tail: string) => `/c/${encodeURIComponent(c.value.name)}${tail}`
const fields = computed(() => leaves(propertiesOf(c.value.fields)).map(([name, p]) => ({ name, p })))

// Records, a page at a time; the way back is remembered.
const trail = ref<(string | null)[]>([null])
const records = useQuery(
  () => [c.value.name, trail.value.length, c.value.revision],
  (signal) => api.records(c.value.name, { after: trail.value.at(-1) ?? null, limit: 12 }, signal),
  { keep: true },
)
const next = computed(() => records.data.value?.next ?? null)
</script>

<template>
  <div class="row spread">
    <div><h1>{{ c.name }}</h1><div class="soft">{{ c.description }}</div></div>
    <div class="row facts">
      <NameTools />
      <div><b class="num" data-count>{{ count(c.n_records) }}</b><span class="soft">records</span></div>
      <div><b class="num">{{ count(c.revision) }}</b><span class="soft">revision</span></div>
      <div><b class="num">{{ fields.length }}</b><span class="soft">fields</span></div>
      <div><b class="num">{{ c.indexes.length }}</b><span class="soft">{{ c.indexes.length === 1 ? 'index' : 'indexes' }}</span></div>
    </div>
  </div>
  <div v-if="c.trouble" class="notice" role="alert"><i class="pi pi-exclamation-triangle" aria-hidden="true" /> {{ c.trouble }}</div>
  <NextStep />

  <div class="two">
    <section>
      <h2>Vector columns</h2>
      <div class="sheet">
        <DataTable v-if="c.columns.length" :value="c.columns" data-key="name" size="small">
          <Column header="Column"><template #body="{ data: v }: { data: VectorColumn }"><strong>{{ v.name }}</strong></template></Column>
          <Column header="Dimensions" class="num"><template #body="{ data: v }: { data: VectorColumn }">{{ count(v.dimensions) }}</template></Column>
          <Column header="Metric" field="metric" />
          <Column header="Encoder reads"><template #body="{ data: v }: { data: VectorColumn }"><template v-if="v.encoder">{{ v.encoder }} <code class="soft">{{ v.template }}</code></template><span v-else class="soft">no encoder</span></template></Column>
          <Column header="Vectors" class="num"><template #body="{ data: v }: { data: VectorColumn }">{{ count(v.n_vectors) }}</template></Column>
          <Column header="Memory" class="num"><template #body="{ data: v }: { data: VectorColumn }">{{ bytes(v.n_bytes_memory) }}</template></Column>
          <Column header="Mapped" class="num"><template #body="{ data: v }: { data: VectorColumn }">{{ bytes(v.n_bytes_mapped) }}</template></Column>
          <Column header="Answers searches"><template #body="{ data: v }: { data: VectorColumn }"><ServingMark :serving="v.serving" /></template></Column>
        </DataTable>
        <ColumnTools />
      </div>

      <h2>Indexes</h2>
      <div class="sheet">
        <DataTable v-if="c.indexes.length" :value="c.indexes" data-key="name" size="small">
          <Column header="Index" class="nowrap"><template #body="{ data: i }: { data: Index }"><strong>{{ i.name }}</strong> <i v-if="i.serving" v-tooltip.bottom="'Serving choice'" class="pi pi-lightbulb lamp" role="img" aria-label="Serving choice" /></template></Column>
          <Column header="Recipe"><template #body="{ data: i }: { data: Index }"><code>{{ i.recipe }}</code></template></Column>
          <Column header="State" field="state" />
          <Column header="Rows" class="num"><template #body="{ data: i }: { data: Index }">{{ count(i.n_rows) }}</template></Column>
          <Column header="Read throughout" class="num"><template #body="{ data: i }: { data: Index }">{{ bytes(i.n_bytes_memory) }}</template></Column>
          <Column header="File" class="num"><template #body="{ data: i }: { data: Index }">{{ bytes(i.n_bytes_file) }}</template></Column>
        </DataTable>
        <p v-else class="soft none">No index yet. Searches scan every record.</p>
        <RouterLink :to="at('/indexes')">{{ c.indexes.length ? 'Build, compare and measure indexes' : 'Build an index' }}</RouterLink>
      </div>

      <h2>What it costs</h2>
      <div class="sheet"><CostTable :name="c.name" :revision="c.revision" /></div>
    </section>

    <section>
      <h2>Fields</h2>
      <div class="sheet fields">
        <DataTable v-if="fields.length" :value="fields" data-key="name" size="small">
          <Column header="Field"><template #body="{ data: f }: { data: { name: string; p: Property } }"><code>{{ f.name }}</code></template></Column>
          <Column header="Type" class="nowrap"><template #body="{ data: f }: { data: { name: string; p: Property } }">{{ kind(f.p) }}</template></Column>
          <Column header="Description" class="soft"><template #body="{ data: f }: { data: { name: string; p: Property } }">{{ f.p.description }}<template v-if="f.p.refersTo"> → {{ f.p.refersTo }}</template><template v-if="f.p.storedOnly"> (stored only)</template></template></Column>
        </DataTable>
        <p v-else class="soft none">No fields are described. Records of this collection are vectors with keys.</p>
      </div>
    </section>
  </div>

  <div class="row spread">
    <h2>Records <span class="soft normal">in order of their keys</span></h2>
    <div class="row">
      <Button size="small" text icon="pi pi-angle-left" label="Back" :disabled="trail.length === 1" data-page="previous" @click="trail = trail.slice(0, -1)" />
      <span class="soft">page {{ trail.length }}</span>
      <Button size="small" text icon="pi pi-angle-right" icon-pos="right" label="Next" :disabled="!next" data-page="next" @click="trail = [...trail, next]" />
    </div>
  </div>
  <QueryState v-slot="{ data }" :query="records">
    <div class="sheet">
      <DataTable v-if="data.records.length" :value="data.records" data-key="key" size="small" data-records>
        <Column header="Key" class="nowrap"><template #body="{ data: r }: { data: Record_ }"><code>{{ r.key }}</code></template></Column>
        <Column header="Record"><template #body="{ data: r }: { data: Record_ }"><RecordText :fields="r.fields" short /></template></Column>
        <Column class="nowrap"><template #body="{ data: r }: { data: Record_ }"><RouterLink v-if="c.columns.length" :to="{ path: at('/search'), query: { example: r.key } }" :aria-label="`More like ${r.key}`">more like this</RouterLink></template></Column>
      </DataTable>
      <p v-else class="soft none">No records yet. <RouterLink :to="at('/load')">Load a file</RouterLink>, or run <code>zesty load {{ c.name }} FILE</code>.</p>
    </div>
  </QueryState>
</template>

<style scoped>
.facts > div:not(.row) { display: flex; flex-direction: column; align-items: end; line-height: 1.2; margin-left: 0.5rem; }
.facts b { font-size: 1.15rem; font-weight: 600; }
.two { display: grid; grid-template-columns: minmax(0, 5fr) minmax(0, 3fr); gap: 0 1rem; }
.fields { padding-top: 0.3rem; }
@media (max-width: 1000px) { .two { grid-template-columns: 1fr; } }
</style>
