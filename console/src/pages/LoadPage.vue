<script setup lang="ts">
/** From a file to records: drop, look, map, watch, reconcile. Into a new collection or one that is there. */
import { computed, reactive, ref, shallowRef, watch } from 'vue'
import Button from 'primevue/button'
import Checkbox from 'primevue/checkbox'
import InputText from 'primevue/inputtext'
import Select from 'primevue/select'
import { api, type Refusal } from '../api/client'
import { useJobs } from '../api/jobs'
import { useResource } from '../api/resource'
import type { FoundField, Inspection, Job, LoadInput, UploadedFile } from '../api/shapes'
import { count, leaves, kind, plain, quoted, when } from '../api/words'
import EqualCommands from '../parts/EqualCommands.vue'
import FailureNote from '../parts/FailureNote.vue'
import FileDrop from '../parts/FileDrop.vue'
import LoadOutcome from '../parts/LoadOutcome.vue'

const props = defineProps<{ name?: string }>()
const TYPES = ['string', 'integer', 'number', 'boolean', 'date', 'timestamp', 'array of strings', 'array of integers']
const METRICS = ['cosine', 'euclidean', 'dot']
const matrix = (f: Inspection | null) => !!f && ['npy', 'fvecs', 'bvecs'].includes(f.format)

const collection = useResource(() => props.name, () => (props.name ? api.collection(props.name) : Promise.resolve(null)))
const loads = useResource(() => props.name, () => (props.name ? api.loads(props.name) : Promise.resolve([])))
const encoders = useResource(() => 0, api.encoders)
const { jobs, follow } = useJobs()

interface FieldRow { source: string; take: boolean; name: string; type: string; description: string; stored: boolean; found: FoundField }
interface VectorRow { source: string; take: boolean; name: string; dimensions: number; metric: string; element: string; remark: string | null }
const main = shallowRef<{ file: UploadedFile; found: Inspection } | null>(null)
const beside = shallowRef<{ file: UploadedFile; found: Inspection | null } | null>(null)
const keys = shallowRef<UploadedFile | null>(null)
const fields = ref<FieldRow[]>([])
const vectors = ref<VectorRow[]>([])
const besideRows = ref<VectorRow[]>([])
const made = reactive({ name: '', key: null as string | null, encoder: null as string | null, template: '', column: 'meaning' })
const options = reactive({ match: 'row' as 'row' | 'key', bad: 'stop' as 'stop' | 'set-aside', besideColumn: null as string | null })
const failure = shallowRef<Refusal | null>(null)
const busy = ref(false)
const running = shallowRef<{ load: number; job: Job } | null>(null)

const known = computed(() => leaves(collection.data.value?.fields.properties ?? {}))
const columns = computed(() => collection.data.value?.columns.map((c) => c.name) ?? [])
const sources = computed(() => [...(main.value?.found.key ? [main.value.found.key] : []), ...fields.value.map((f) => f.source)])
const now = computed(() => {
  const mine = running.value
  return mine ? { ...mine, job: jobs.value.find((j) => j.id === mine.job.id) ?? mine.job } : null
})

const vectorRow = (v: Inspection['vectors'][number]): VectorRow => ({
  source: v.source, take: true, name: columns.value.includes(v.name) || !props.name ? v.name : (columns.value[0] ?? v.name),
  dimensions: v.dimensions, metric: 'cosine', element: v.element, remark: v.remark,
})
function looked(file: UploadedFile, found: Inspection | null) {
  if (!found) return
  main.value = { file, found }
  made.key = found.key
  made.name ||= file.name.split('.')[0]!.toLowerCase().replace(/[^a-z0-9_-]/g, '_')
  fields.value = found.fields.map((f) => ({
    source: f.source, found: f, type: f.type, description: '', stored: false,
    take: !props.name || known.value.some(([n]) => n === f.name), name: f.name,
  }))
  vectors.value = found.vectors.map(vectorRow)
}
function lookedBeside(file: UploadedFile, found: Inspection | null) {
  beside.value = { file, found }
  besideRows.value = found?.vectors.map(vectorRow) ?? []
  options.match = matrix(found) ? 'row' : 'key'
  options.besideColumn = columns.value[0] ?? null
}
/** What the chosen types would reject is counted over the whole file, before anything is loaded. */
const counting = ref(false)
async function recount() {
  const file = main.value?.file
  if (!file) return
  const chosen = fields.value.filter((f) => f.type !== main.value?.found.fields.find((g) => g.source === f.source)?.type)
  const types = Object.fromEntries(chosen.map((f) => [f.source, f.type]))
  counting.value = true
  await attempt(async () => {
    const found = await api.inspect(file.id, types)
    for (const row of fields.value) row.found = found.fields.find((f) => f.source === row.source) ?? row.found
  })
  counting.value = false
}
function property(row: FieldRow) {
  const shapes: Record<string, object> = {
    date: { type: 'string', format: 'date' }, timestamp: { type: 'string', format: 'date-time' },
    'array of strings': { type: 'array', items: { type: 'string' } }, 'array of integers': { type: 'array', items: { type: 'integer' } },
  }
  return { ...(shapes[row.type] ?? { type: row.type }), ...(row.description ? { description: row.description } : {}), ...(row.stored ? { storedOnly: true } : {}) }
}
/** The description of the collection that is to be made. */
const description = computed(() => {
  const properties: Record<string, any> = {}
  for (const row of fields.value.filter((f) => f.take)) {
    let inside = properties
    const steps = row.name.split('.')
    for (const step of steps.slice(0, -1)) inside = (inside[step] ??= { type: 'object', properties: {} }).properties
    inside[steps[steps.length - 1]!] = property(row)
  }
  const all = [...vectors.value, ...(beside.value ? besideRows.value : [])].filter((v) => v.take)
  const made_columns: object[] = all.map((v) => ({ name: v.name, dimensions: v.dimensions, metric: v.metric }))
  if (made.encoder) made_columns.push({ name: made.column, encoder: made.encoder, template: made.template || undefined })
  return { name: made.name, fields: { type: 'object', properties }, columns: made_columns }
})
const input = computed<LoadInput>(() => {
  const rename: Record<string, string> = {}
  const only: string[] = []
  for (const row of [...fields.value, ...vectors.value]) {
    if (!row.take) continue
    // Members of objects travel with their object.
    const top = row.source.split('.')[0]!
    if (!only.includes(top)) only.push(top)
    if (row.source !== row.name && !row.source.includes('.')) rename[row.source] = row.name
  }
  const out: LoadInput = { bad_rows: options.bad }
  if (main.value && !matrix(main.value.found)) {
    out.records = main.value.file.id
    if (made.key && made.key !== 'key') out.key = made.key
    if (Object.keys(rename).length) out.rename = rename
    const left = [...fields.value, ...vectors.value].some((r) => !r.take)
    if (left) out.only = made.key ? [made.key, ...only] : only
  }
  const files = []
  if (main.value && matrix(main.value.found)) files.push({ column: vectors.value[0]?.name, file: main.value.file.id, keys: keys.value?.id })
  if (beside.value) {
    const column = props.name ? (options.besideColumn ?? undefined) : besideRows.value[0]?.name
    files.push({ column, file: beside.value.file.id, keys: keys.value?.id })
    out.match = options.match
  }
  if (files.length) out.vectors = files
  return out
})
const shell = computed(() => {
  const words = ['zesty load', quoted(props.name ?? (made.name || 'NAME')), quoted(main.value?.file.name ?? 'FILE')]
  if (!props.name) {
    words.push('--create')
    if (made.encoder) words.push('--encoder', quoted(made.encoder), '--template', quoted(made.template || '{FIELD}'))
    if (made.encoder && made.column !== 'meaning') words.push('--new-column', quoted(made.column))
    const guessed = (f: FieldRow) => main.value?.found.fields.find((g) => g.source === f.source)?.type
    for (const f of fields.value.filter((f) => f.take && f.type !== guessed(f))) words.push('--type', quoted(`${f.source}=${f.type}`))
  }
  if (beside.value) words.push('--vectors', quoted(beside.value.file.name), '--match', options.match)
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
const target = ref(props.name ?? '')
watch(() => props.name, (name) => (target.value = name ?? ''))
function started(s: { load: number; job: Job }) {
  running.value = s
  void follow(s.job).then(() => { void loads.refresh(); void collection.refresh() })
}
async function attempt(work: () => Promise<void>) {
  failure.value = null
  busy.value = true
  try {
    await work()
  } catch (error) {
    failure.value = error as Refusal
  } finally {
    busy.value = false
  }
}
const begin = () => attempt(async () => {
  if (!props.name && target.value !== made.name) {
    await api.create(description.value)
    target.value = made.name
  }
  started(await api.load(target.value, input.value))
})
const resume = (load: number, bad?: 'set-aside') => attempt(async () => started(await api.resume(target.value, load, bad)))
const left = computed(() => (loads.data.value ?? []).filter((l) => l.state !== 'running' && l.id !== running.value?.load).slice(0, 6))
</script>

<template>
  <h1>{{ name ? 'Load' : 'New collection from a file' }}</h1>
  <p class="soft lead">JSON Lines, CSV (.gz, .zst), Parquet, Arrow IPC, NPY, fvecs, bvecs. Nothing is written before you say so.</p>
  <div class="drops">
    <FileDrop mark="main" label="Choose a file" hint="or drop it here: records, or vectors alone" @ready="looked" @gone="main = null" />
    <FileDrop v-if="main && !matrix(main.found)" mark="vectors" label="Vectors beside it" hint="only if they stand in a file of their own" @ready="lookedBeside" @gone="beside = null" />
    <FileDrop v-if="(main && matrix(main.found)) || (beside && options.match === 'key' && matrix(beside.found))" mark="keys" unread label="Keys of its rows" hint="a text file, one key a line; without it rows are numbered" @ready="(f: UploadedFile) => (keys = f)" @gone="keys = null" />
  </div>

  <template v-if="main && !now">
    <p v-for="trouble in main.found.troubles" :key="trouble" class="bad"><i class="pi pi-exclamation-triangle" /> {{ trouble }}</p>
    <section class="sheet scroll">
      <div class="row">
        <label v-if="!name" class="row">Collection <InputText v-model="made.name" size="small" class="mono" data-new-name /></label>
        <label v-if="sources.length" class="row">Keys are in <Select v-model="made.key" :options="sources" size="small" data-key-column /></label>
        <span class="soft">{{ main.found.n_rows === null ? `the first ${count(main.found.n_sampled)} rows were looked at` : `${count(main.found.n_rows)} rows, ${count(main.found.n_sampled)} looked at` }}</span>
      </div>
      <table v-if="fields.length" class="plain" data-found>
        <thead><tr><th>Take</th><th>In the file</th><th>{{ name ? 'Goes to field' : 'Field' }}</th><th>Type</th><th class="num">Missing</th><th class="num">Distinct</th><th>Examples</th><th v-if="!name">Description</th><th v-if="!name" title="Kept in the database only: less memory, no filter">Stored only</th></tr></thead>
        <tbody>
          <tr v-for="f in fields.filter((f) => f.source !== made.key)" :key="f.source" :class="{ off: !f.take }">
            <td><Checkbox v-model="f.take" binary :aria-label="`Take ${f.source}`" /></td>
            <td><code>{{ f.source }}</code></td>
            <td>
              <Select v-if="name" v-model="f.name" :options="known.map(([n]) => n)" size="small" :disabled="!f.take || f.source.includes('.')" />
              <InputText v-else v-model="f.name" size="small" class="mono narrow" :disabled="!f.take" />
            </td>
            <td>
              <template v-if="name">{{ f.type }}<span v-if="f.take && typeOf(f.name) && typeOf(f.name) !== f.type" class="bad"> → {{ typeOf(f.name) }}</span></template>
              <Select v-else v-model="f.type" :options="TYPES" size="small" :disabled="!f.take || counting" :aria-label="`Type of ${f.name}`" :data-type="f.source" @update:model-value="recount" />
            </td>
            <td class="num">{{ count(f.found.n_missing) }}</td><td class="num">{{ count(f.found.n_distinct) }}</td>
            <td class="examples soft">{{ f.found.examples.map((e) => shortened(plain(e))).join(' · ') }}<div v-if="f.found.remark" class="bad">{{ f.found.remark }}</div></td>
            <td v-if="!name"><InputText v-model="f.description" size="small" class="narrow" :disabled="!f.take" /></td>
            <td v-if="!name"><Checkbox v-model="f.stored" binary :disabled="!f.take" /></td>
          </tr>
        </tbody>
      </table>
      <table v-if="vectors.length || (beside && !name)" class="plain">
        <thead><tr><th>Take</th><th>Vectors in the file</th><th>Column</th><th class="num">Dimensions</th><th>Element</th><th v-if="!name">Metric</th></tr></thead>
        <tbody>
          <tr v-for="v in [...vectors, ...(beside && !name ? besideRows : [])]" :key="v.source">
            <td><Checkbox v-model="v.take" binary :aria-label="`Take ${v.source}`" /></td><td><code>{{ v.source }}</code></td>
            <td><Select v-if="name" v-model="v.name" :options="columns" size="small" /><InputText v-else v-model="v.name" size="small" class="mono narrow" /></td>
            <td class="num">{{ count(v.dimensions) }}</td><td>{{ v.element }}<div v-if="v.remark" class="bad">{{ v.remark }}</div></td>
            <td v-if="!name"><Select v-model="v.metric" :options="METRICS" size="small" /></td>
          </tr>
        </tbody>
      </table>
      <div class="row options">
        <template v-if="beside">
          <label class="row">Vectors of <strong>{{ beside.file.name }}</strong> belong to their records by <Select v-model="options.match" :options="['row', 'key']" size="small" /></label>
          <label v-if="name" class="row">and go to <Select v-model="options.besideColumn" :options="columns" size="small" /></label>
        </template>
        <template v-if="!name && encoders.data.value?.length">
          <label class="row">Encode texts with <Select v-model="made.encoder" :options="encoders.data.value.map((e) => e.name)" size="small" show-clear placeholder="no encoder" data-encoder /></label>
          <label v-if="made.encoder" class="row">which reads <InputText v-model="made.template" size="small" class="mono" placeholder="{note}" data-template /></label>
          <label v-if="made.encoder" class="row">into column <InputText v-model="made.column" size="small" class="mono narrow" /></label>
        </template>
        <label class="row">A bad row <Select v-model="options.bad" :options="[{ l: 'stops the load', v: 'stop' }, { l: 'is set aside', v: 'set-aside' }]" option-label="l" option-value="v" size="small" data-bad /></label>
        <Button size="small" icon="pi pi-play" :label="name ? 'Load' : 'Create and load'" :loading="busy" data-begin @click="begin" />
      </div>
      <FailureNote v-if="failure" :failure="failure" :again="false" />
      <EqualCommands :zesty="shell" method="POST" :path="`/api/collections/${encodeURIComponent(name ?? made.name)}/loads`" :body="input" />
    </section>
  </template>

  <LoadOutcome v-if="now" :name="target" :load="now.load" :job="now.job" @resume="(bad) => resume(now!.load, bad)" />
  <FailureNote v-if="now && failure" :failure="failure" :again="false" />

  <template v-if="name && left.length">
    <h2>Loads</h2>
    <div class="sheet scroll">
      <table class="plain" data-loads>
        <thead><tr><th class="num">Load</th><th>State</th><th>Files</th><th class="num">Read</th><th class="num">New</th><th class="num">Replaced</th><th class="num">Unchanged</th><th class="num">Rejected</th><th>Began (UTC)</th><th></th></tr></thead>
        <tbody>
          <tr v-for="l in left" :key="l.id">
            <td class="num">{{ l.id }}</td><td>{{ l.state }}<div v-if="l.error" class="bad why">{{ l.error }}</div></td><td>{{ l.files.join(', ') }}</td>
            <td class="num">{{ count(l.read) }}</td><td class="num">{{ count(l.new) }}</td><td class="num">{{ count(l.replaced) }}</td><td class="num">{{ count(l.unchanged) }}</td><td class="num">{{ count(l.rejected) }}</td>
            <td class="soft">{{ when(l.created_at) }}</td>
            <td><Button v-if="l.state !== 'done'" size="small" text label="Resume" @click="resume(l.id)" /></td>
          </tr>
        </tbody>
      </table>
    </div>
  </template>
</template>

<style scoped>
.lead { margin: 0.2rem 0 0.8rem; }
.drops { display: grid; gap: 0.5rem; grid-template-columns: repeat(auto-fit, minmax(22rem, 1fr)); margin-bottom: 0.8rem; }
.narrow { width: 9.5rem; }
.examples { max-width: 22rem; overflow: hidden; text-overflow: ellipsis; }
.off td:nth-child(n + 2) { opacity: 0.5; }
.options { margin-top: 0.8rem; }
.bad { color: var(--wrong); }
.why { max-width: 30rem; }
table.plain { margin-top: 0.6rem; }
</style>
