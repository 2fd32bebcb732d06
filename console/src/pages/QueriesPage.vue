<script setup lang="ts">
import { computed, ref } from 'vue'
import Button from 'primevue/button'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import InputNumber from 'primevue/inputnumber'
import InputText from 'primevue/inputtext'
import Select from 'primevue/select'
import { useConfirm } from 'primevue/useconfirm'
import { useAction } from '../api/action'
import { api, pathOf } from '../api/client'
import { useJobs } from '../api/jobs'
import { useQuery } from '../api/query'
import type { NewQuerySet, QuerySet } from '../api/shapes'
import { count, plain, quoted, when } from '../api/words'
import { useCollection } from '../parts/collection'
import EqualCommands from '../parts/EqualCommands.vue'
import FailureNote from '../parts/FailureNote.vue'
import QueryState from '../parts/QueryState.vue'
import { useUrlQuery } from '../parts/url'
import VectorStrip from '../parts/VectorStrip.vue'

const { collection } = useCollection()
const name = computed(() => collection.value.name)
const { word, number } = useUrlQuery()
const confirm = useConfirm()
const { follow } = useJobs()
const sets = useQuery(() => name.value, (signal) => api.querySets(name.value, signal), { keep: true })

const kinds = [
  { value: 'sampled', label: 'sampled: stored records', what: 'Records that every index inserts last and can be searched without: no index has seen these queries.' },
  { value: 'blended', label: 'blended: far from all', what: 'Each component from one of a few random records. Such queries lie far from every cluster, where searches fare worst.' },
  { value: 'jittered', label: 'jittered: near records', what: 'A record plus noise, half as long as the way to its 10th neighbour.' },
  { value: 'captured', label: 'captured: live searches', what: 'The newest live searches that were captured: see Watch.' },
] as const
const kind = ref<(typeof kinds)[number]['value']>('sampled')
const newName = ref('')
const queries = ref(4000)
const seed = ref(1)
const filter = ref('')
const body = computed<NewQuerySet>(() => ({ name: newName.value || kind.value, kind: kind.value, queries: queries.value, ...(kind.value === 'captured' ? {} : { seed: seed.value }), ...(filter.value.trim() ? { filter: filter.value } : {}) }))
const command = computed(() => `zesty queries make ${quoted(name.value)} ${quoted(body.value.name)} --kind ${kind.value} --queries ${queries.value}${kind.value === 'captured' ? '' : ` --seed ${seed.value}`}${filter.value.trim() ? ` --filter ${quoted(filter.value)}` : ''}`)
const make = useAction(async () => {
  const job = await follow(await api.makeQuerySet(name.value, body.value))
  if (job.error) throw new Error(job.error)
  await sets.refresh()
})
const remove = useAction(async (s: QuerySet) => {
  await api.deleteQuerySet(name.value, s.name)
  await sets.refresh()
})
function askToDelete(event: Event, s: QuerySet) {
  confirm.require({
    target: event.currentTarget as HTMLElement,
    message: `Delete query set "${s.name}" and its exact answers? What was measured with it stays.`,
    icon: 'pi pi-exclamation-triangle',
    acceptProps: { label: 'Delete it', severity: 'danger', size: 'small' },
    rejectProps: { label: 'Keep it', severity: 'secondary', text: true, size: 'small' },
    accept: () => void remove.run(s),
  })
}
const how = (s: QuerySet) => (s.of ? `${s.kind} of ${s.of}` : s.noise ? `${s.kind} by ${s.noise}` : s.kind)
const three = (x: number | null | undefined) => (typeof x === 'number' ? x.toFixed(3) : '')

/** The queries of a set, from a position on: what a report's worst queries link to. */
const of = computed(() => word('set'))
const from = computed(() => number('from') ?? 0)
const page = useQuery(() => [of.value, from.value], (signal) => (of.value ? api.queries(name.value, of.value, from.value, 10, signal) : Promise.resolve(null)))
const at = (set: string, position: number) => ({ query: { set, from: position } })
</script>

<template>
  <div><h1>Query sets</h1><div class="soft">What recall is measured with. Each set keeps its exact answers, and says how hard it is beside the collection's own records.</div></div>
  <form class="sheet gap" @submit.prevent="make.run()">
    <div class="row end">
      <div class="field"><label id="kind">Kind</label><Select v-model="kind" :options="[...kinds]" option-value="value" option-label="label" size="small" aria-labelledby="kind" /></div>
      <div class="field"><label for="set-name">Name</label><InputText id="set-name" v-model="newName" size="small" :placeholder="kind" /></div>
      <div class="field"><label for="n">Queries</label><InputNumber v-model="queries" :min="1" :max="10000" size="small" input-id="n" input-class="narrow num" /></div>
      <div class="field"><label for="seed">Seed</label><InputNumber v-model="seed" :min="0" size="small" input-id="seed" input-class="narrow num" /></div>
      <div class="field grow"><label for="set-filter">Filter, if any (CQL2)</label><InputText id="set-filter" v-model="filter" size="small" class="mono wide" placeholder="severity >= 4" /></div>
      <Button type="submit" size="small" icon="pi pi-plus" :label="make.busy.value ? 'Making…' : 'Make query set'" :loading="make.busy.value" data-make-set />
    </div>
    <p class="soft why">{{ kinds.find((k) => k.value === kind)?.what }}</p>
    <EqualCommands :zesty="command" method="POST" :path="`${pathOf(name)}/query-sets`" :body="body" />
  </form>
  <FailureNote v-if="make.failure.value" :failure="make.failure.value" :again="false" />
  <FailureNote v-if="remove.failure.value" :failure="remove.failure.value" :again="false" />

  <QueryState v-slot="{ data }" :query="sets">
    <div v-if="data.length" class="sheet gap">
      <DataTable :value="data" data-key="name" size="small" scrollable data-sets>
        <Column header="Set" field="name" sortable class="nowrap"><template #body="{ data: s }: { data: QuerySet }"><RouterLink :to="at(s.name, 0)"><strong>{{ s.name }}</strong></RouterLink></template></Column>
        <Column header="Kind"><template #body="{ data: s }: { data: QuerySet }">{{ how(s) }}<span v-if="s.n_filtered" class="soft">, filtered</span><span v-if="s.n_graded" class="soft">, graded</span></template></Column>
        <Column header="Queries" field="n_queries" sortable class="num"><template #body="{ data: s }: { data: QuerySet }">{{ count(s.n_queries) }}</template></Column>
        <Column v-for="(label, i) in ['1st', '10th', '100th']" :key="label" class="num"><template #header><span v-tooltip.bottom="`Median distance to the ${label} neighbour; below it that of the collection's own records`" tabindex="0">To {{ label }}</span></template><template #body="{ data: s }: { data: QuerySet }">{{ three([s.difficulty?.queries.distance_1, s.difficulty?.queries.distance_10, s.difficulty?.queries.distance_100][i]) }}<div class="soft small">{{ three([s.difficulty?.records.distance_1, s.difficulty?.records.distance_10, s.difficulty?.records.distance_100][i]) }}</div></template></Column>
        <Column class="num"><template #header><span v-tooltip.bottom="'Local intrinsic dimensionality (Levina and Bickel 2004): in how many directions the data spreads around a query'" tabindex="0">Dimensionality</span></template><template #body="{ data: s }: { data: QuerySet }">{{ s.difficulty?.queries.intrinsic?.toFixed(1) ?? '' }}<div class="soft small">{{ s.difficulty?.records.intrinsic?.toFixed(1) ?? '' }}</div></template></Column>
        <Column header="Exact answers" class="num"><template #body="{ data: s }: { data: QuerySet }"><span v-if="s.answers" class="exact">{{ s.answers.k }} each</span><div v-if="s.answers?.stale" class="soft small">stale: the collection has changed</div></template></Column>
        <Column header="Made"><template #body="{ data: s }: { data: QuerySet }"><span class="soft nowrap">{{ when(s.created_at) }}</span></template></Column>
        <Column class="num"><template #body="{ data: s }: { data: QuerySet }"><Button size="small" text severity="danger" icon="pi pi-trash" class="slim" :aria-label="`Delete query set ${s.name}`" @click="askToDelete($event, s)" /></template></Column>
      </DataTable>
    </div>
    <p v-else class="soft gap">No query sets yet. The first sweep makes one, or make one above. Your own questions come in from a file: <code>zesty queries make {{ name }} asked --file questions.jsonl</code>.</p>
  </QueryState>

  <section v-if="of" class="sheet gap" data-queries>
    <div class="row spread"><h2 class="first">Queries of {{ of }}, from {{ count(from) }}</h2><div class="row"><RouterLink v-if="from > 0" :to="at(of, Math.max(0, from - 10))">previous ten</RouterLink><RouterLink v-if="page.data.value?.next" :to="at(of, page.data.value.next)">next ten</RouterLink></div></div>
    <QueryState v-slot="{ data }" :query="page">
      <DataTable v-if="data" :value="data.queries" data-key="position" size="small" scrollable>
        <Column header="Query" field="position" class="num" />
        <Column header="What"><template #body="{ data: q }"><span v-if="q.text">{{ q.text }}</span><RouterLink v-else-if="q.record" :to="{ path: `/c/${encodeURIComponent(name)}/search`, query: { example: q.record, compare: 'true' } }">record {{ q.record }}</RouterLink><span v-else class="soft">a vector</span></template></Column>
        <Column header="Filter"><template #body="{ data: q }"><code v-if="q.filter">{{ plain(q.filter) }}</code></template></Column>
        <Column header="Vector"><template #body="{ data: q }"><VectorStrip :vector="q.vector" /></template></Column>
      </DataTable>
    </QueryState>
  </section>
</template>

<style scoped>
.end { align-items: end; }
.grow { flex: 1; min-width: 12rem; }
.wide { width: 100%; }
.why { margin: 0.5rem 0 0; font-size: 0.92em; }
.first { margin: 0 0 0.4rem; }
:deep(.narrow) { width: 5.4rem; }
</style>
