<script setup lang="ts">
import Button from 'primevue/button'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import { api } from '../api/client'
import { useAction } from '../api/action'
import { useQuery } from '../api/query'
import type { Collection, DroppedCollection } from '../api/shapes'
import { count, when } from '../api/words'
import CopyLine from '../parts/CopyLine.vue'
import FailureNote from '../parts/FailureNote.vue'
import QueryState from '../parts/QueryState.vue'
import ServingMark from '../parts/ServingMark.vue'

const collections = useQuery(() => 0, api.collections)
const dropped = useQuery(() => 0, api.dropped)
const restore = useAction(async (id: number) => {
  await api.restore(id)
  await Promise.all([collections.refresh(), dropped.refresh()])
})
const encoders = useQuery(() => 0, api.encoders)
const FIRST = `zesty inspect notes.parquet --write notes.json
zesty collection create --file notes.json
zesty load notes notes.parquet`
</script>

<template>
  <div class="row spread"><h1>Collections</h1><RouterLink to="/load"><Button size="small" icon="pi pi-upload" label="New from a file" tabindex="-1" data-new /></RouterLink></div>
  <p class="soft lead">A collection is a set of records that share fields and vector columns.</p>
  <QueryState v-slot="{ data }" :query="collections">
    <div v-if="data.length" class="sheet">
      <DataTable :value="data" data-key="name" size="small" data-collections>
        <Column header="Collection" field="name" sortable><template #body="{ data: c }: { data: Collection }"><RouterLink :to="`/c/${encodeURIComponent(c.name)}`"><strong>{{ c.name }}</strong></RouterLink><div class="soft">{{ c.description }}</div></template></Column>
        <Column header="Records" field="n_records" sortable class="num"><template #body="{ data: c }: { data: Collection }">{{ count(c.n_records) }}</template></Column>
        <Column header="Vector columns"><template #body="{ data: c }: { data: Collection }"><div v-for="v in c.columns" :key="v.name">{{ v.name }} <span class="soft">{{ v.dimensions }} dimensions, {{ v.metric }}<template v-if="v.encoder">, {{ v.encoder }}</template></span></div></template></Column>
        <Column header="Answers searches"><template #body="{ data: c }: { data: Collection }"><div v-for="v in c.columns" :key="v.name"><ServingMark :serving="v.serving" /></div></template></Column>
        <Column header="Revision" class="num"><template #body="{ data: c }: { data: Collection }">{{ count(c.revision) }}</template></Column>
        <Column header="Created (UTC)" field="created_at" sortable class="soft nowrap"><template #body="{ data: c }: { data: Collection }">{{ when(c.created_at) }}</template></Column>
      </DataTable>
    </div>
    <div v-else class="sheet" data-first-steps>
      <h2>The service is empty. Begin with a file.</h2>
      <ol>
        <li><strong>Look.</strong> Choose a file of records or vectors. The console shows its columns and their types. Nothing is written yet.</li>
        <li><strong>Load.</strong> Choose the keys, the fields and the vectors. The collection is made, the file is loaded, and the counts are checked.</li>
        <li><strong>Search.</strong> Search by text, by vector, or by "more like this". Answers are exact until you build an index.</li>
        <li><strong>Tune.</strong> Build an index, measure its recall on your records, and choose what serves.</li>
      </ol>
      <RouterLink to="/load"><Button icon="pi pi-upload" label="Choose a file" tabindex="-1" /></RouterLink>
      <p>Or from a shell:</p>
      <CopyLine :text="FIRST" what="commands" />
      <p v-if="encoders.data.value" class="soft">
        <template v-if="encoders.data.value.length">Encoders that can read your texts: {{ encoders.data.value.map((e) => `${e.name} (${e.dimensions} dimensions)`).join(', ') }}.</template>
        <template v-else>No encoder is known, so records must bring their vectors. To search by text, run <code>zesty encoder set NAME --at URL --model MODEL</code>.</template>
      </p>
    </div>
  </QueryState>
  <template v-if="dropped.data.value?.length">
    <h2 class="gap">Dropped</h2>
    <div class="sheet">
      <DataTable :value="dropped.data.value" data-key="id" size="small" data-dropped>
        <Column header="Collection"><template #body="{ data: d }: { data: DroppedCollection }"><strong>{{ d.name }}</strong> <span class="soft">{{ d.description }}</span></template></Column>
        <Column header="Dropped (UTC)" class="nowrap"><template #body="{ data: d }: { data: DroppedCollection }">{{ when(d.dropped_at) }} <span class="soft">by {{ d.dropped_by }}</span></template></Column>
        <Column header="Deleted for good" class="nowrap"><template #body="{ data: d }: { data: DroppedCollection }">{{ when(d.restorable_until) }}</template></Column>
        <Column><template #body="{ data: d }: { data: DroppedCollection }"><Button class="slim" size="small" text label="Restore" :loading="restore.busy.value" :aria-label="`Restore ${d.name}`" @click="restore.run(d.id)" /></template></Column>
      </DataTable>
      <FailureNote v-if="restore.failure.value" :failure="restore.failure.value" :again="false" />
    </div>
  </template>
</template>

<style scoped>
.lead { margin: 0.2rem 0 1rem; }
.sheet h2 { margin-top: 0; }
li { margin-bottom: 0.2rem; max-width: 52rem; }
</style>
