<script setup lang="ts">
import { computed, nextTick, reactive, ref, shallowRef, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import Button from 'primevue/button'
import Checkbox from 'primevue/checkbox'
import InputNumber from 'primevue/inputnumber'
import InputText from 'primevue/inputtext'
import MultiSelect from 'primevue/multiselect'
import Select from 'primevue/select'
import SelectButton from 'primevue/selectbutton'
import { api, Refusal } from '../api/client'
import { useResource } from '../api/resource'
import type { Search, SearchInput } from '../api/shapes'
import { count, micros, quoted, settingsText, strategyWords } from '../api/words'
import EqualCommands from '../parts/EqualCommands.vue'
import FailureNote from '../parts/FailureNote.vue'
import FilterBox from '../parts/FilterBox.vue'
import HitList from '../parts/HitList.vue'
import PlanPicture from '../parts/PlanPicture.vue'

const props = defineProps<{ name: string }>()
const route = useRoute()
const router = useRouter()
const collection = useResource(() => props.name, () => api.collection(props.name))
const fieldsOf = useResource(() => props.name, () => api.fields(props.name, '', 0))

type Mode = 'text' | 'like' | 'vector'
const modes: { label: string; value: Mode }[] = [
  { label: 'Text', value: 'text' }, { label: 'Record', value: 'like' }, { label: 'Vector', value: 'vector' },
]
const placeholders = {
  text: 'What are you looking for?', like: 'Key of a record; several with commas', vector: 'A JSON array of numbers',
}
/** The page is its URL: everything that is asked stands there. */
const form = reactive({ mode: 'text' as Mode, query: '', filter: '', k: 10, beam: null as number | null, column: '', compare: true, unlike: '', floor: null as number | null, each: '', most: 1, sort: '', skip: 0, without: '', follow: [] as string[], limit: null as number | null, cards: false, plan: false, more: false })
function fromUrl() {
  const q = route.query
  const text = (v: unknown) => (typeof v === 'string' ? v : '')
  form.mode = q.like ? 'like' : q.vector ? 'vector' : 'text'
  form.query = text(q[form.mode])
  form.filter = text(q.filter)
  form.k = Number(text(q.k)) || 10
  form.beam = Number(text(q.beam)) || null
  form.column = text(q.column)
  form.compare = q.compare !== '0'
  form.unlike = text(q.unlike)
  form.floor = text(q.floor) === '' ? null : Number(text(q.floor))
  const [each, most] = text(q.atmost).split('=')
  form.each = each ?? ''
  form.most = Number(most) || 1
  form.sort = text(q.sort)
  form.skip = Number(text(q.skip)) || 0
  form.without = text(q.without)
  form.follow = keys(text(q.follow))
  form.limit = Number(text(q.limit)) || null
  form.cards = q.view === 'cards'
  form.plan = q.plan === '1'
  form.more ||= !!(form.unlike || form.floor !== null || form.each || form.sort || form.without || form.follow.length || form.limit)
}
/** Keys with commas between them. */
const keys = (text: string) => text.split(',').map((k) => k.trim()).filter((k) => k)

const approximate = shallowRef<Search | null>(null)
const exact = shallowRef<Search | null>(null)
const failure = shallowRef<Refusal | null>(null)
const busy = ref(false)
let running: AbortController | null = null

const wrongFilter = computed(() => failure.value?.word === 'invalid-filter')

function input(): SearchInput {
  const asked: SearchInput = { k: form.k }
  if (form.mode === 'vector') {
    let vector: unknown
    try {
      vector = JSON.parse(form.query)
    } catch {
      vector = null
    }
    if (!Array.isArray(vector) || !vector.every((x) => typeof x === 'number')) {
      throw new Refusal('wrong-vector', 'This is not a vector', 'Write a JSON array of numbers, such as [0.1, -0.2, 0.3].', '', null, 0)
    }
    asked.vector = vector
  } else if (form.mode === 'like') {
    const given = keys(form.query)
    asked.like = given.length === 1 ? given[0]! : given
  } else asked.text = form.query
  if (keys(form.unlike).length) asked.unlike = keys(form.unlike)
  if (form.floor !== null) asked.min_score = form.floor
  if (form.each) asked.at_most = { field: form.each, hits: form.most }
  if (form.sort) asked.sort = form.sort
  if (form.skip) asked.skip = form.skip
  if (keys(form.without).length) asked.leave_out = keys(form.without)
  if (form.follow.length) asked.follow = form.follow
  if (form.limit) asked.time_limit_ms = form.limit
  if (form.filter.trim()) asked.filter = form.filter
  if (form.beam) asked.settings = { beam: form.beam }
  if (form.column) asked.column = form.column
  return asked
}

async function run() {
  running?.abort()
  if (!form.query.trim()) {
    approximate.value = exact.value = failure.value = null
    return
  }
  const mine = (running = new AbortController())
  busy.value = true
  try {
    const asked = input()
    // One after the other, so that neither slows the other down and the times are fair.
    const first = await api.search(props.name, asked, mine.signal)
    let truth: Search | null = null
    if (form.compare && !first.via.exact) {
      const { settings: _, ...rest } = asked
      truth = await api.search(props.name, { ...rest, exact: true }, mine.signal)
    }
    approximate.value = first
    exact.value = truth
    failure.value = null
  } catch (error) {
    // A superseded search stays quiet.
    if (error instanceof DOMException) return
    failure.value = error as Refusal
  } finally {
    if (running === mine) busy.value = false
  }
}

/** Another page of hits; a search that was changed begins anew. */
function page(skip: number) {
  const { skip: _, ...rest } = route.query
  void router.push({ query: { ...rest, ...(skip ? { skip: String(skip) } : {}) } })
}

function submit() {
  const query: Record<string, string> = { [form.mode]: form.query }
  if (form.filter.trim()) query.filter = form.filter
  if (form.k !== 10) query.k = String(form.k)
  if (form.beam) query.beam = String(form.beam)
  if (form.column) query.column = form.column
  if (!form.compare) query.compare = '0'
  if (form.unlike.trim()) query.unlike = form.unlike
  if (form.floor !== null) query.floor = String(form.floor)
  if (form.each) query.atmost = `${form.each}=${form.most}`
  if (form.sort) query.sort = form.sort
  if (form.without.trim()) query.without = form.without
  if (form.follow.length) query.follow = form.follow.join(',')
  if (form.limit) query.limit = String(form.limit)
  if (form.cards) query.view = 'cards'
  if (form.plan) query.plan = '1'
  const same = JSON.stringify(query) === JSON.stringify(route.query)
  if (same) void run()
  else void router.push({ query })
}
const asks = () => JSON.stringify({ ...route.query, view: undefined, plan: undefined })
watch(asks, () => { fromUrl(); void run() }, { immediate: true })
function like(key: string) {
  void router.push({ query: { ...(form.filter.trim() ? { filter: form.filter } : {}), like: key } })
}
watch(() => form.mode, async () => { await nextTick(); document.querySelector<HTMLInputElement>('[data-query-box]')?.focus() })

const found = computed(() => {
  const [a, e] = [approximate.value, exact.value]
  if (!a || !e) return null
  const keys = new Set(a.hits.map((h) => h.key))
  const n = e.hits.filter((h) => keys.has(h.key)).length
  return { n, of: e.hits.length, pace: e.took.search_us / Math.max(a.took.search_us, 1) }
})
const missed = computed(() => {
  const keys = new Set(approximate.value?.hits.map((h) => h.key))
  return new Set(exact.value?.hits.filter((h) => !keys.has(h.key)).map((h) => h.key))
})
const strayed = computed(() => {
  const keys = new Set(exact.value?.hits.map((h) => h.key))
  return new Set(exact.value ? approximate.value?.hits.filter((h) => !keys.has(h.key)).map((h) => h.key) : [])
})
/** How hits are shown is part of the URL, and asks nothing anew. */
function shown(change: () => void) {
  change()
  const { view: _, plan: __, ...rest } = route.query
  void router.replace({ query: { ...rest, ...(form.cards ? { view: 'cards' } : {}), ...(form.plan ? { plan: '1' } : {}) } })
}
const singles = computed(() => (fieldsOf.data.value?.fields ?? []).filter((f) => !f.stored_only && !f.type.startsWith('array')).map((f) => f.name))
const sorts = computed(() => singles.value.flatMap((f) => [{ label: `${f} ↑`, value: f }, { label: `${f} ↓`, value: `-${f}` }]))
const references = computed(() => (fieldsOf.data.value?.fields ?? []).filter((f) => f.refers_to).map((f) => f.name))
const columns = computed(() => collection.data.value?.columns.map((c) => c.name) ?? [])
const serving = computed(() => collection.data.value?.columns.find((c) => !form.column || c.name === form.column)?.serving ?? null)

const command = computed(() => {
  const parts = ['zesty search', quoted(props.name)]
  if (form.mode === 'like') parts.push(...keys(form.query).map((k) => `--like ${quoted(k)}`))
  else parts.push(form.mode === 'text' ? quoted(form.query) : `--vector ${quoted(form.query)}`)
  parts.push(...keys(form.unlike).map((k) => `--unlike ${quoted(k)}`))
  if (form.filter.trim()) parts.push(`--filter ${quoted(form.filter)}`)
  if (form.k !== 10) parts.push(`-k ${form.k}`)
  if (form.beam) parts.push(`--beam ${form.beam}`)
  if (form.column) parts.push(`--column ${quoted(form.column)}`)
  if (form.floor !== null) parts.push(`--min-score ${form.floor}`)
  if (form.each) parts.push(`--at-most ${quoted(`${form.each}=${form.most}`)}`)
  if (form.sort) parts.push(`--sort ${quoted(form.sort)}`)
  if (form.skip) parts.push(`--skip ${form.skip}`)
  parts.push(...keys(form.without).map((k) => `--leave-out ${quoted(k)}`))
  parts.push(...form.follow.map((f) => `--follow ${quoted(f)}`))
  if (form.limit) parts.push(`--time-limit ${form.limit}`)
  if (form.compare) parts.push('--compare')
  else if (form.plan) parts.push('--explain')
  return parts.join(' ')
})
const body = computed(() => { try { return input() } catch { return {} } })
</script>

<template>
  <form class="sheet ask" @submit.prevent="submit" data-search-form>
    <div class="row line">
      <SelectButton v-model="form.mode" :options="modes" option-label="label" option-value="value" size="small" :allow-empty="false" aria-label="Search by" />
      <InputText v-model="form.query" class="grow" :class="{ mono: form.mode !== 'text' }" :placeholder="placeholders[form.mode]" data-query-box aria-label="Query" autofocus />
      <Button type="submit" icon="pi pi-search" label="Search" :loading="busy" />
    </div>
    <div class="row line">
      <FilterBox v-model="form.filter" :collection="name" :failure="failure" />
      <label class="row small"><span class="soft">hits</span><InputNumber v-model="form.k" :min="1" :max="1000" size="small" input-class="narrow num" /></label>
      <label class="row small"><span class="soft">beam</span><InputNumber v-model="form.beam" :min="1" :max="10000" size="small" input-class="narrow num" :placeholder="serving?.settings.beam ? String(serving.settings.beam) : '–'" /></label>
      <Select v-if="columns.length > 1" v-model="form.column" :options="columns" size="small" placeholder="vector column" aria-label="Vector column" />
      <label class="row small"><Checkbox v-model="form.compare" binary input-id="compare" /><span>beside exact</span></label>
      <Button type="button" size="small" text :label="form.more ? 'Less' : 'More'" :aria-expanded="form.more" data-more @click="form.more = !form.more" />
    </div>
    <div v-if="form.more" class="row line">
      <label class="row small"><span class="soft">unlike</span><InputText v-model="form.unlike" size="small" class="mono" placeholder="keys of records" aria-label="Unlike" /></label>
      <label class="row small"><span class="soft">score at least</span><InputNumber v-model="form.floor" :min="-1000000" :max-fraction-digits="4" size="small" input-class="narrow num" /></label>
      <label class="row small"><span class="soft">at most</span><InputNumber v-model="form.most" :min="1" :max="1000" size="small" input-class="narrow num" /><span class="soft">of each</span><Select v-model="form.each" :options="singles" size="small" show-clear placeholder="field" aria-label="At most of each" @update:model-value="form.each ??= ''" /></label>
      <label class="row small"><span class="soft">in order of</span><Select v-model="form.sort" :options="sorts" option-label="label" option-value="value" size="small" show-clear placeholder="score" aria-label="Order" @update:model-value="form.sort ??= ''" /></label>
      <label class="row small"><span class="soft">leave out</span><InputText v-model="form.without" size="small" class="mono" placeholder="keys of records" aria-label="Leave out" /></label>
      <label v-if="references.length" class="row small"><span class="soft">with</span><MultiSelect v-model="form.follow" :options="references" size="small" :show-toggle-all="false" placeholder="records referred to" aria-label="Records referred to" data-follow /></label>
      <label class="row small"><span class="soft">stop after</span><InputNumber v-model="form.limit" :min="0.01" :max="60000" :max-fraction-digits="2" size="small" input-class="narrow num" suffix=" ms" placeholder="–" aria-label="Time limit" /></label>
    </div>
    <EqualCommands v-if="form.query" :zesty="command" method="POST" :path="`/api/collections/${encodeURIComponent(name)}/search`" :body="body" />
  </form>

  <FailureNote v-if="failure && !wrongFilter" :failure="failure" @retry="run" />

  <div v-if="approximate" :class="{ stale: busy }" :aria-busy="busy">
    <div class="verdict sheet row" data-verdict>
      <template v-if="found">
        <strong :class="found.n === found.of ? 'exact' : 'approx'">Found {{ found.n }} of the true {{ found.of }}</strong>
        <span>in <b class="approx">{{ micros(approximate.took.search_us) }}</b> against <b class="exact">{{ micros(exact!.took.search_us) }}</b> exact, {{ found.pace.toFixed(found.pace < 10 ? 1 : 0) }} times faster</span>
        <span class="soft">{{ count(approximate.via.work.distances) }} distances against {{ count(exact!.via.work.distances) }}</span>
      </template>
      <template v-else>
        <strong :class="approximate.via.exact ? 'exact' : 'approx'">{{ approximate.via.exact ? 'Exact answer' : 'Approximate answer' }}</strong>
        <span>in {{ micros(approximate.took.search_us) }}, {{ count(approximate.via.work.distances) }} distances</span>
      </template>
      <span v-if="form.filter && approximate.via.plan.allowed < approximate.via.plan.rows" class="soft">filter allows {{ count(approximate.via.plan.allowed) }} of {{ count(approximate.via.plan.rows) }}</span>
      <span class="tools row">
        <Button type="button" size="small" text icon="pi pi-chart-bar" label="Plan" :aria-pressed="form.plan" data-show-plan @click="shown(() => (form.plan = !form.plan))" />
        <Button type="button" size="small" text :icon="form.cards ? 'pi pi-list' : 'pi pi-th-large'" :label="form.cards ? 'List' : 'Cards'" data-show-cards @click="shown(() => (form.cards = !form.cards))" />
      </span>
    </div>
    <PlanPicture v-if="form.plan" :search="approximate" />
    <div v-for="n in approximate.notices" :key="n.code" class="notice"><i class="pi pi-info-circle" /> {{ n.text }}</div>
    <div :class="{ beside: exact }">
      <section>
        <h2 :class="approximate.via.exact ? 'exact' : 'approx'">
          {{ approximate.via.exact ? 'Exact' : 'Approximate' }}
          <span class="soft normal">{{ strategyWords[approximate.via.plan.strategy] }}<template v-if="!approximate.via.exact">, {{ approximate.via.index }} with {{ settingsText(approximate.via.settings) }}</template> · {{ micros(approximate.took.total_us) }} in all</span>
        </h2>
        <HitList :hits="approximate.hits" :marked="strayed" mark-title="Not among the true nearest" :exact="approximate.via.exact" @like="like" :cards="form.cards" :from="form.skip" data-hits="approximate" />
      </section>
      <section v-if="exact">
        <h2 class="exact">Exact <span class="soft normal">{{ strategyWords[exact.via.plan.strategy] }} · {{ micros(exact.took.total_us) }} in all</span></h2>
        <HitList :hits="exact.hits" :marked="missed" mark-title="Missed by the approximate answer" exact @like="like" :cards="form.cards" :from="form.skip" data-hits="exact" />
      </section>
    </div>
    <div class="row pages">
      <Button v-if="form.skip" type="button" size="small" text icon="pi pi-angle-left" label="Nearer ones" data-nearer @click="page(Math.max(0, form.skip - form.k))" />
      <Button v-if="approximate.hits.length === form.k && form.skip + 2 * form.k <= 10000" type="button" size="small" text icon="pi pi-angle-right" :label="`Next ${form.k}`" data-further @click="page(form.skip + form.k)" />
    </div>
    <p class="soft times">
      encode {{ micros(approximate.took.encode_us) }} · filter {{ micros(approximate.took.filter_us) }} · search {{ micros(approximate.took.search_us) }} · fetch {{ micros(approximate.took.fetch_us) }} · revision {{ count(approximate.revision) }}
    </p>
  </div>
  <div v-else-if="!failure && !busy" class="empty soft">
    <p>Type a question in plain words, the key of a record, or a vector. <kbd>/</kbd> comes back to the query box.</p>
  </div>
</template>

<style scoped>
.ask { padding: 0.7rem 0.9rem; }
.line + .line { margin-top: 0.5rem; align-items: start; }
.grow { flex: 1; min-width: 16rem; }
.small { gap: 0.35rem; font-size: 0.93em; }
:deep(.narrow) { width: 4.2rem; }
.verdict { margin-top: 0.8rem; padding: 0.45rem 0.9rem; gap: 1.1rem; }
.tools { margin-left: auto; gap: 0.2rem; }
.beside { display: grid; grid-template-columns: 1fr 1fr; gap: 1rem; }
.beside section { min-width: 0; }
.normal { font-weight: 400; font-size: 0.92em; }
.notice { margin: 0.5rem 0 0; color: var(--soft); }
.stale { opacity: 0.6; transition: opacity 0.15s 0.2s; }
.pages { margin-top: 0.4rem; }
.line { flex-wrap: wrap; }
.times { font-size: 0.9em; }
.empty { padding: 2.5rem 0; text-align: center; }
kbd { border: 1px solid var(--line); border-radius: 3px; padding: 0 0.3rem; }
</style>
