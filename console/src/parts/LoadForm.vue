<script setup lang="ts">
/** From a file to records: choose, look, map, watch, reconcile. Into a new collection, or into the given one. */
import { computed, reactive, ref, shallowRef } from 'vue'
import Button from 'primevue/button'
import Checkbox from 'primevue/checkbox'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import InputText from 'primevue/inputtext'
import Select from 'primevue/select'
import { useAction } from '../api/action'
import { api, pathOf } from '../api/client'
import { useJobs } from '../api/jobs'
import { useQuery } from '../api/query'
import {
  propertiesOf, type Collection, type FoundField, type Inspection, type Load, type LoadRequest, type LoadVectors, type NewCollection,
  type NewColumn, type Property, type StartedLoad, type Upload,
} from '../api/shapes'
import { count, kind, leaves, plain, quoted, when } from '../api/words'
import EqualCommands from './EqualCommands.vue'
import FailureNote from './FailureNote.vue'
import FileDrop from './FileDrop.vue'
import LoadOutcome from './LoadOutcome.vue'

const props = defineProps<{ into: Collection | null }>()
const emit = defineEmits<{ changed: [] }>()
const TYPES = ['string', 'integer', 'number', 'boolean', 'date', 'timestamp', 'array of strings', 'array of integers']
const METRICS = ['cosine', 'euclidean', 'dot']
const matrix = (f: Inspection | null) => !!f && ['npy', 'fvecs', 'bvecs'].includes(f.format)

const loads = useQuery(() => props.into?.name, (signal) => (props.into ? api.loads(props.into.name, signal) : Promise.resolve([])), { keep: true })
const encoders = useQuery(() => 0, api.encoders)
const { jobs, follow } = useJobs()

interface FieldRow { source: string; take: boolean; name: string; type: string; description: string; stored: boolean; found: FoundField }
interface VectorRow { source: string; take: boolean; name: string; dimensions: number; metric: string; element: string; remark: string | null }
const main = shallowRef<{ file: Upload; found: Inspection } | null>(null)
const side = shallowRef<{ file: Upload; found: Inspection | null } | null>(null)
const keys = shallowRef<Upload | null>(null)
const fields = ref<FieldRow[]>([])
const vectors = ref<VectorRow[]>([])
const sideRows = ref<VectorRow[]>([])
const made = reactive({ name: '', key: null as string | null, encoder: null as string | null, template: '', column: 'meaning' })
const options = reactive({ match: 'row' as 'row' | 'key', bad: 'stop' as 'stop' | 'set-aside', sideColumn: null as string | null })
const running = shallowRef<StartedLoad | null>(null)

const known = computed(() => (props.into ? leaves(propertiesOf(props.into.fields)) : []))
const columns = computed(() => props.into?.columns.map((c) => c.name) ?? [])
const vectorRows = computed(() => [...vectors.value, ...(side.value && !props.into ? sideRows.value : [])])
const sources = computed(() => [...(main.value?.found.key ? [main.value.found.key] : []), ...fields.value.map((f) => f.source)])
const now = computed(() => {
  const mine = running.value
  return mine ? { ...mine, job: jobs.value.find((j) => j.id === mine.job.id) ?? mine.job } : null
})

const vectorRow = (v: Inspection['vectors'][number]): VectorRow => ({
  source: v.source, take: true, name: columns.value.includes(v.name) || !props.into ? v.name : (columns.value[0] ?? v.name),
  dimensions: v.dimensions, metric: 'cosine', element: v.element, remark: v.remark,
})
function looked(file: Upload, found: Inspection | null) {
  if (!found) return
  main.value = { file, found }
  made.key = found.key
  made.name ||= (file.name.split('.')[0] ?? '').toLowerCase().replace(/[^a-z0-9_-]/g, '_')
  fields.value = found.fields.map((f) => ({
    source: f.source, found: f, type: f.type, description: '', stored: false,
    take: !props.into || known.value.some(([n]) => n === f.name), name: f.name,
  }))
  vectors.value = found.vectors.map(vectorRow)
}
function lookedAtSide(file: Upload, found: Inspection | null) {
  side.value = { file, found }
  sideRows.value = found?.vectors.map(vectorRow) ?? []
  options.match = matrix(found) ? 'row' : 'key'
  options.sideColumn = columns.value[0] ?? null
}
/** What the chosen types would reject is counted over the whole file, before anything is loaded. */
const recount = useAction(async () => {
  const file = main.value?.file
  if (!file) return
  const guessed = new Map(main.value?.found.fields.map((f) => [f.source, f.type]))
  const types = Object.fromEntries(fields.value.filter((f) => f.type !== guessed.get(f.source)).map((f) => [f.source, f.type]))
  const found = await api.inspect(file.id, types)
  for (const row of fields.value) row.found = found.fields.find((f) => f.source === row.source) ?? row.found
})
const SHAPES: Record<string, Property> = {
  date: { type: 'string', format: 'date' },
  timestamp: { type: 'string', format: 'date-time' },
  'array of strings': { type: 'array', items: { type: 'string' } },
  'array of integers': { type: 'array', items: { type: 'integer' } },
}
function property(row: FieldRow): Property {
  return {
    ...(SHAPES[row.type] ?? { type: row.type }),
    ...(row.description ? { description: row.description } : {}),
    ...(row.stored ? { storedOnly: true } : {}),
  }
}
/** Puts a field under its dotted path; objects on the way are made. */
function place(into: Record<string, Property>, [first = '', ...others]: string[], leaf: Property) {
  if (!others.length) into[first] = leaf
  else {
    const object = (into[first] ??= { type: 'object', properties: {} })
    place((object.properties ??= {}), others, leaf)
  }
}
/** The description of the collection to make. */
const description = computed<NewCollection>(() => {
  const properties: Record<string, Property> = {}
  for (const row of fields.value.filter((f) => f.take)) place(properties, row.name.split('.'), property(row))
  const all = [...vectors.value, ...(side.value ? sideRows.value : [])].filter((v) => v.take)
  const newColumns: NewColumn[] = all.map((v) => ({ name: v.name, dimensions: v.dimensions, metric: v.metric }))
  if (made.encoder) newColumns.push({ name: made.column, encoder: made.encoder, template: made.template || null })
  return { name: made.name, fields: { type: 'object', properties }, columns: newColumns }
})
const input = computed<LoadRequest>(() => {
  const rename: Record<string, string> = {}
  const only: string[] = []
  for (const row of [...fields.value, ...vectors.value]) {
    if (!row.take) continue
    // Members of objects travel with their object.
    const top = row.source.split('.')[0] ?? row.source
    if (!only.includes(top)) only.push(top)
    if (row.source !== row.name && !row.source.includes('.')) rename[row.source] = row.name
  }
  const out: LoadRequest = { bad_rows: options.bad }
  if (main.value && !matrix(main.value.found)) {
    out.records = main.value.file.id
    if (made.key && made.key !== 'key') out.key = made.key
    if (Object.keys(rename).length) out.rename = rename
    const left = [...fields.value, ...vectors.value].some((r) => !r.take)
    if (left) out.only = made.key ? [made.key, ...only] : only
  }
  const files: LoadVectors[] = []
  if (main.value && matrix(main.value.found)) files.push({ column: vectors.value[0]?.name, file: main.value.file.id, keys: keys.value?.id })
  if (side.value) {
    const column = props.into ? options.sideColumn : sideRows.value[0]?.name
    files.push({ column, file: side.value.file.id, keys: keys.value?.id })
    out.match = options.match
  }
  if (files.length) out.vectors = files
  return out
})
const shell = computed(() => {
  const words = ['zesty load', quoted(props.into?.name ?? (made.name || 'NAME')), quoted(main.value?.file.name ?? 'FILE')]
  if (!props.into) {
    words.push('--create')
    if (made.encoder) words.push('--encoder', quoted(made.encoder), '--template', quoted(made.template || '{FIELD}'))
    if (made.encoder && made.column !== 'meaning') words.push('--new-column', quoted(made.column))
    const guessed = (f: FieldRow) => main.value?.found.fields.find((g) => g.source === f.source)?.type
    for (const f of fields.value.filter((f) => f.take && f.type !== guessed(f))) words.push('--type', quoted(`${f.source}=${f.type}`))
  }
  if (side.value) words.push('--vectors', quoted(side.value.file.name), '--match', options.match)
  if (keys.value) words.push('--vector-keys', quoted(keys.value.name))
  if (input.value.key) words.push('--key-column', quoted(input.value.key))
  for (const [from, to] of Object.entries(input.value.rename ?? {})) words.push('--rename', quoted(`${from}=${to}`))
  if (input.value.only) words.push('--only', quoted(input.value.only.join(',')))
  if (options.bad === 'set-aside') words.push('--set-aside', 'rejects.jsonl')
  return words.join(' ')
})

const shortened = (text: string) => (text.length > 32 ? `${text.slice(0, 31)}…` : text)
const typeOf = (field: string) => {
  const p = known.value.find(([n]) => n === field)?.[1]
  return p ? kind(p) : ''
}
const target = ref(props.into?.name ?? '')
async function follows(started: StartedLoad) {
  running.value = started
  // How the load ended is shown by its outcome.
  await follow(started.job).finally(() => {
    void loads.refresh()
    emit('changed')
  })
}
const begin = useAction(async () => {
  if (!props.into && target.value !== made.name) {
    await api.create(description.value)
    target.value = made.name
  }
  await follows(await api.load(target.value, input.value))
})
const resume = useAction(async (load: number, bad?: 'set-aside') => follows(await api.resume(target.value, load, bad)))
const failures = [begin.failure, resume.failure, recount.failure]
const left = computed(() => (loads.data.value ?? []).filter((l) => l.state !== 'running' && l.id !== running.value?.load).slice(0, 6))
</script>

<template>
  <p class="soft lead">JSON Lines, CSV (.gz, .zst), Parquet, Arrow IPC, NPY, fvecs, bvecs. Nothing is written until you press {{ into ? 'Load' : 'Create and load' }}.</p>
  <div class="drops">
    <FileDrop mark="main" label="Choose a file" hint="or drop it here: records, or vectors alone" @ready="looked" @gone="main = null" />
    <FileDrop v-if="main && !matrix(main.found)" mark="vectors" label="Add a file of vectors" hint="only if the vectors are in a file of their own" @ready="lookedAtSide" @gone="side = null" />
    <FileDrop v-if="(main && matrix(main.found)) || (side && options.match === 'key' && matrix(side.found))" mark="keys" unread label="Add the keys of its rows" hint="a text file, one key a line. Without it rows are numbered." @ready="(f: Upload) => (keys = f)" @gone="keys = null" />
  </div>

  <template v-if="main && !now">
    <p v-for="trouble in main.found.troubles" :key="trouble" class="bad"><i class="pi pi-exclamation-triangle" aria-hidden="true" /> {{ trouble }}</p>
    <section class="sheet">
      <div class="row">
        <label v-if="!into" class="row">Collection <InputText v-model="made.name" size="small" class="mono" data-new-name /></label>
        <label v-if="sources.length" class="row">Keys are in <Select v-model="made.key" :options="sources" size="small" aria-label="Column with the keys" data-key-column /></label>
        <span class="soft">{{ main.found.n_rows === null ? `the first ${count(main.found.n_sampled)} rows were read` : `${count(main.found.n_rows)} rows, of which ${count(main.found.n_sampled)} were read` }}</span>
      </div>
      <DataTable v-if="fields.length" :value="fields.filter((f) => f.source !== made.key)" data-key="source" size="small" scrollable :row-class="(f: FieldRow) => (f.take ? '' : 'off')" data-found>
        <Column header="Take"><template #body="{ data: f }: { data: FieldRow }"><Checkbox v-model="f.take" binary :aria-label="`Take ${f.source}`" /></template></Column>
        <Column header="In the file"><template #body="{ data: f }: { data: FieldRow }"><code>{{ f.source }}</code></template></Column>
        <Column :header="into ? 'Goes to field' : 'Field'">
          <template #body="{ data: f }: { data: FieldRow }">
            <Select v-if="into" v-model="f.name" :options="known.map(([n]) => n)" size="small" :aria-label="`Field for ${f.source}`" :disabled="!f.take || f.source.includes('.')" />
            <InputText v-else v-model="f.name" size="small" class="mono narrow" :aria-label="`Field for ${f.source}`" :disabled="!f.take" />
          </template>
        </Column>
        <Column header="Type">
          <template #body="{ data: f }: { data: FieldRow }">
            <template v-if="into">{{ f.type }}<span v-if="f.take && typeOf(f.name) && typeOf(f.name) !== f.type" class="bad"> → {{ typeOf(f.name) }}</span></template>
            <Select v-else v-model="f.type" :options="TYPES" size="small" :disabled="!f.take || recount.busy.value" :aria-label="`Type of ${f.name}`" :data-type="f.source" @update:model-value="recount.run()" />
          </template>
        </Column>
        <Column header="Missing" class="num"><template #body="{ data: f }: { data: FieldRow }">{{ count(f.found.n_missing) }}</template></Column>
        <Column header="Distinct" class="num"><template #body="{ data: f }: { data: FieldRow }">{{ count(f.found.n_distinct) }}</template></Column>
        <Column header="Examples" class="examples soft"><template #body="{ data: f }: { data: FieldRow }">{{ f.found.examples.map((e) => shortened(plain(e))).join(' · ') }}<div v-if="f.found.remark" class="bad">{{ f.found.remark }}</div></template></Column>
        <Column v-if="!into" header="Description"><template #body="{ data: f }: { data: FieldRow }"><InputText v-model="f.description" size="small" class="narrow" :aria-label="`Description of ${f.name}`" :disabled="!f.take" /></template></Column>
        <Column v-if="!into"><template #header><span v-tooltip.bottom="'Only the database keeps the values: less memory, but no filter on them'" tabindex="0">Stored only</span></template><template #body="{ data: f }: { data: FieldRow }"><Checkbox v-model="f.stored" binary :aria-label="`Keep ${f.name} in the database only`" :disabled="!f.take" /></template></Column>
      </DataTable>
      <DataTable v-if="vectorRows.length" :value="vectorRows" data-key="source" size="small" scrollable class="gap">
        <Column header="Take"><template #body="{ data: v }: { data: VectorRow }"><Checkbox v-model="v.take" binary :aria-label="`Take ${v.source}`" /></template></Column>
        <Column header="Vectors in the file"><template #body="{ data: v }: { data: VectorRow }"><code>{{ v.source }}</code></template></Column>
        <Column header="Column"><template #body="{ data: v }: { data: VectorRow }"><Select v-if="into" v-model="v.name" :options="columns" size="small" :aria-label="`Column for ${v.source}`" /><InputText v-else v-model="v.name" size="small" class="mono narrow" :aria-label="`Column for ${v.source}`" /></template></Column>
        <Column header="Dimensions" class="num"><template #body="{ data: v }: { data: VectorRow }">{{ count(v.dimensions) }}</template></Column>
        <Column header="Element"><template #body="{ data: v }: { data: VectorRow }">{{ v.element }}<div v-if="v.remark" class="bad">{{ v.remark }}</div></template></Column>
        <Column v-if="!into" header="Metric"><template #body="{ data: v }: { data: VectorRow }"><Select v-model="v.metric" :options="METRICS" size="small" :aria-label="`Metric of ${v.name}`" /></template></Column>
      </DataTable>
      <div class="row options">
        <template v-if="side">
          <label class="row">Vectors of <strong>{{ side.file.name }}</strong> belong to their records by <Select v-model="options.match" :options="['row', 'key']" size="small" aria-label="Match vectors by" /></label>
          <label v-if="into" class="row">and go to <Select v-model="options.sideColumn" :options="columns" size="small" aria-label="Column for the vectors" /></label>
        </template>
        <template v-if="!into && encoders.data.value?.length">
          <label class="row">Encode texts with <Select v-model="made.encoder" :options="encoders.data.value.map((e) => e.name)" size="small" show-clear placeholder="no encoder" aria-label="Encoder" data-encoder /></label>
          <label v-if="made.encoder" class="row">which reads <InputText v-model="made.template" size="small" class="mono" placeholder="{note}" data-template /></label>
          <label v-if="made.encoder" class="row">into column <InputText v-model="made.column" size="small" class="mono narrow" /></label>
        </template>
        <label class="row">A bad row <Select v-model="options.bad" :options="[{ l: 'stops the load', v: 'stop' }, { l: 'is set aside', v: 'set-aside' }]" option-label="l" option-value="v" size="small" aria-label="A bad row" data-bad /></label>
        <Button size="small" icon="pi pi-play" :label="into ? 'Load' : 'Create and load'" :loading="begin.busy.value" data-begin @click="begin.run()" />
      </div>
      <EqualCommands :zesty="shell" method="POST" :path="`${pathOf(into?.name ?? made.name)}/loads`" :body="input" />
    </section>
  </template>
  <template v-for="(failure, i) in failures" :key="i"><FailureNote v-if="failure.value" :failure="failure.value" :again="false" /></template>

  <LoadOutcome v-if="now" :name="target" :load="now.load" :job="now.job" @resume="(bad) => resume.run(now?.load ?? 0, bad)" />

  <template v-if="into && left.length">
    <h2>Loads</h2>
    <div class="sheet">
      <DataTable :value="left" data-key="id" size="small" scrollable data-loads>
        <Column header="Load" field="id" class="num" />
        <Column header="State"><template #body="{ data: l }: { data: Load }">{{ l.state }}<div v-if="l.error" class="bad why">{{ l.error }}</div></template></Column>
        <Column header="Files"><template #body="{ data: l }: { data: Load }">{{ l.files.join(', ') }}</template></Column>
        <Column header="Read" class="num"><template #body="{ data: l }: { data: Load }">{{ count(l.read) }}</template></Column>
        <Column header="New" class="num"><template #body="{ data: l }: { data: Load }">{{ count(l.new) }}</template></Column>
        <Column header="Replaced" class="num"><template #body="{ data: l }: { data: Load }">{{ count(l.replaced) }}</template></Column>
        <Column header="Unchanged" class="num"><template #body="{ data: l }: { data: Load }">{{ count(l.unchanged) }}</template></Column>
        <Column header="Rejected" class="num"><template #body="{ data: l }: { data: Load }">{{ count(l.rejected) }}</template></Column>
        <Column header="Began (UTC)" class="soft nowrap"><template #body="{ data: l }: { data: Load }">{{ when(l.created_at) }}</template></Column>
        <Column><template #body="{ data: l }: { data: Load }"><Button v-if="l.state !== 'done'" size="small" text label="Resume" :aria-label="`Resume load ${l.id}`" @click="resume.run(l.id)" /></template></Column>
      </DataTable>
    </div>
  </template>
</template>

<style scoped>
.lead { margin: 0.2rem 0 0.8rem; }
.drops { display: grid; gap: 0.5rem; grid-template-columns: repeat(auto-fit, minmax(22rem, 1fr)); margin-bottom: 0.8rem; }
.narrow { width: 9.5rem; }
:deep(.examples) { max-width: 22rem; overflow: hidden; text-overflow: ellipsis; }
:deep(.off > td:nth-child(n + 2)) { opacity: 0.5; }
.options { margin-top: 0.8rem; }
.why { max-width: 30rem; }
</style>
