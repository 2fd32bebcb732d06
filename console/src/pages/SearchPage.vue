<script setup lang="ts">
import { computed, nextTick, reactive, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import Button from 'primevue/button'
import Checkbox from 'primevue/checkbox'
import InputNumber from 'primevue/inputnumber'
import InputText from 'primevue/inputtext'
import MultiSelect from 'primevue/multiselect'
import Select from 'primevue/select'
import SelectButton from 'primevue/selectbutton'
import { api, pathOf } from '../api/client'
import { useQuery } from '../api/query'
import type { SearchAnswer } from '../api/shapes'
import { count, micros, settingsText, strategyWords } from '../api/words'
import { useCollection } from '../parts/collection'
import EqualCommands from '../parts/EqualCommands.vue'
import FailureNote from '../parts/FailureNote.vue'
import FilterBox from '../parts/FilterBox.vue'
import { commandOf, formOf, requestOf, urlOf, type Mode, type SearchForm } from '../parts/search/form'
import HitList from '../parts/search/HitList.vue'
import PlanPicture from '../parts/search/PlanPicture.vue'
import { rememberSearch } from '../parts/search/recent'
import SearchStart from '../parts/search/SearchStart.vue'

const { collection } = useCollection()
const name = computed(() => collection.value.name)
const route = useRoute()
const router = useRouter()
const fieldsOf = useQuery(() => name.value, (signal) => api.fields(name.value, { limit: 0 }, signal))

const MODES: { label: string; value: Mode }[] = [
  { label: 'Text', value: 'text' }, { label: 'Record', value: 'example' }, { label: 'Vector', value: 'vector' },
]
const PLACEHOLDERS: Record<Mode, string> = {
  text: 'What are you looking for?', example: 'Key of a record; several with commas', vector: 'A JSON array of numbers',
}
/** The page is its URL: everything that is asked stands there. */
const form = reactive<SearchForm>(formOf(route.query))
/** What is asked, without how it is shown. */
const asks = computed(() => JSON.stringify({ ...route.query, view: undefined, plan: undefined }))
watch(asks, () => Object.assign(form, formOf(route.query), { more: form.more || formOf(route.query).more }))

interface Answers {
  approximate: SearchAnswer
  /** Null when it was not asked for, or when the answer is exact already. */
  exact: SearchAnswer | null
}
const searching = useQuery<Answers | null>(
  () => [name.value, asks.value],
  async (signal) => {
    const wanted = formOf(route.query)
    if (!wanted.query.trim()) return null
    const request = requestOf(wanted)
    // One after the other, so that neither slows the other down and the times are fair.
    const first = await api.search(name.value, request, signal)
    let truth: SearchAnswer | null = null
    if (wanted.compare && !first.via.exact) {
      const { settings: _settings, ...others } = request
      truth = await api.search(name.value, { ...others, exact: true }, signal)
    }
    if (first.hits.length) rememberSearch(name.value, urlOf(wanted))
    return { approximate: first, exact: truth }
  },
  { keep: true },
)
const { failure, loading: busy, data: answers, refresh: run } = searching
const asked = computed(() => !!formOf(route.query).query.trim())
const approximate = computed(() => (asked.value ? (answers.value?.approximate ?? null) : null))
const exact = computed(() => answers.value?.exact ?? null)
const wrongFilter = computed(() => failure.value?.word === 'invalid-filter')

/** Another page of hits. */
function page(skip: number) {
  const { skip: _skip, ...others } = route.query
  void router.push({ query: { ...others, ...(skip ? { skip: String(skip) } : {}) } })
}
function submit() {
  const query = urlOf(form)
  if (JSON.stringify(query) === JSON.stringify(route.query)) void run()
  else void router.push({ query })
}
function example(key: string) {
  void router.push({ query: { ...(form.filter.trim() ? { filter: form.filter } : {}), example: key } })
}
watch(() => form.mode, async () => { await nextTick(); document.querySelector<HTMLInputElement>('[data-query-box]')?.focus() })

const found = computed(() => {
  const [a, e] = [approximate.value, exact.value]
  if (!a || !e) return null
  const keys = new Set(a.hits.map((h) => h.key))
  const n = e.hits.filter((h) => keys.has(h.key)).length
  return { n, of: e.hits.length, exact: e, pace: e.timing.search_us / Math.max(a.timing.search_us, 1) }
})
/** The hits of one answer that the other does not have. */
const only = (one: SearchAnswer | null, other: SearchAnswer | null) => {
  const keys = new Set(other?.hits.map((h) => h.key))
  return new Set(other ? one?.hits.filter((h) => !keys.has(h.key)).map((h) => h.key) : [])
}
const missed = computed(() => only(exact.value, approximate.value))
const strayed = computed(() => only(approximate.value, exact.value))
/** How hits are shown is part of the URL, and asks nothing anew. */
function shown(change: () => void) {
  change()
  const { view: _view, plan: _plan, ...others } = route.query
  void router.replace({ query: { ...others, ...(form.cards ? { view: 'cards' } : {}), ...(form.plan ? { plan: '1' } : {}) } })
}
const fields = computed(() => fieldsOf.data.value?.fields ?? [])
const singles = computed(() => fields.value.filter((f) => !f.stored_only && !f.type.startsWith('array')).map((f) => f.name))
const sorts = computed(() => singles.value.flatMap((f) => [{ label: `${f} ↑`, value: f }, { label: `${f} ↓`, value: `-${f}` }]))
const references = computed(() => fields.value.filter((f) => f.refers_to).map((f) => f.name))
const columns = computed(() => collection.value.columns.map((c) => c.name))
const serving = computed(() => collection.value.columns.find((c) => c.name === (form.column || collection.value.default_column))?.serving ?? null)
/** The setting that the serving index has: cells are visited, graphs are walked with a beam. */
const setting = computed<'beam' | 'visit'>(() => (/(^|\| )cells/.test(collection.value.indexes.find((i) => i.name === serving.value?.index)?.recipe ?? '') ? 'visit' : 'beam'))
const served = computed(() => serving.value?.settings[setting.value])
const body = computed(() => { try { return requestOf(form) } catch { return {} } })
</script>

<template>
  <form class="sheet ask" data-search-form @submit.prevent="submit">
    <div class="row line">
      <SelectButton v-model="form.mode" :options="MODES" option-label="label" option-value="value" size="small" :allow-empty="false" aria-label="Search by" />
      <InputText v-model="form.query" class="grow" :class="{ mono: form.mode !== 'text' }" :placeholder="PLACEHOLDERS[form.mode]" data-query-box aria-label="Query" autofocus />
      <Button type="submit" icon="pi pi-search" label="Search" :loading="busy" />
    </div>
    <div class="row line">
      <FilterBox v-model="form.filter" :collection="name" :failure="failure" />
      <label class="row small"><span class="soft">hits</span><InputNumber v-model="form.k" :min="1" :max="1000" size="small" aria-label="Hits" input-class="narrow num" /></label>
      <label class="row small"><span class="soft">{{ setting }}</span><InputNumber v-model="form[setting]" :min="1" :max="setting === 'beam' ? 10000 : 100000" size="small" :aria-label="setting === 'beam' ? 'Beam' : 'Cells to visit'" input-class="narrow num" :placeholder="served ? String(served) : '–'" /></label>
      <Select v-if="columns.length > 1" v-model="form.column" :options="columns" size="small" placeholder="vector column" aria-label="Vector column" />
      <label class="row small"><Checkbox v-model="form.compare" binary input-id="compare" aria-label="Compare with the exact answer" /><span>compare with exact</span></label>
      <Button type="button" size="small" text :label="form.more ? 'Less' : 'More'" :aria-expanded="form.more" data-more @click="form.more = !form.more" />
    </div>
    <div v-if="form.more" class="row line">
      <label class="row small"><span class="soft">away from</span><InputText v-model="form.counterexamples" size="small" class="mono" placeholder="keys of records" aria-label="Counterexamples" /></label>
      <label class="row small"><span class="soft">score at least</span><InputNumber v-model="form.scoreAtLeast" :min="-1000000" :max-fraction-digits="4" size="small" aria-label="Score at least" input-class="narrow num" /></label>
      <label class="row small"><span class="soft">at most</span><InputNumber v-model="form.most" :min="1" :max="1000" size="small" aria-label="At most so many hits" input-class="narrow num" /><span class="soft">of each</span><Select v-model="form.each" :options="singles" size="small" show-clear placeholder="field" aria-label="At most of each" @update:model-value="form.each ??= ''" /></label>
      <label class="row small"><span class="soft">in order of</span><Select v-model="form.sort" :options="sorts" option-label="label" option-value="value" size="small" show-clear placeholder="score" aria-label="Order" @update:model-value="form.sort ??= ''" /></label>
      <label class="row small"><span class="soft">leave out</span><InputText v-model="form.leaveOut" size="small" class="mono" placeholder="keys of records" aria-label="Leave out" /></label>
      <label v-if="references.length" class="row small"><span class="soft">with</span><MultiSelect v-model="form.follow" :options="references" size="small" :show-toggle-all="false" placeholder="records referred to" aria-label="Records referred to" data-follow /></label>
      <label class="row small"><span class="soft">stop after</span><InputNumber v-model="form.timeLimit" :min="0.01" :max="60000" :max-fraction-digits="2" size="small" input-class="narrow num" suffix=" ms" placeholder="–" aria-label="Time limit" /></label>
    </div>
    <EqualCommands v-if="form.query" :zesty="commandOf(name, form)" method="POST" :path="`${pathOf(name)}/search`" :body="body" />
  </form>

  <FailureNote v-if="failure && !wrongFilter" :failure="failure" @retry="run" />

  <div v-if="approximate" :class="{ stale: busy }" :aria-busy="busy">
    <div class="verdict sheet row" data-verdict>
      <template v-if="found">
        <strong :class="found.n === found.of ? 'exact' : 'approx'">Found {{ found.n }} of the true {{ found.of }}</strong>
        <span>in <b class="approx">{{ micros(approximate.timing.search_us) }}</b> against <b class="exact">{{ micros(found.exact.timing.search_us) }}</b> exact, {{ found.pace.toFixed(found.pace < 10 ? 1 : 0) }} times faster</span>
        <span class="soft">{{ count(approximate.via.work.distances) }} distances against {{ count(found.exact.via.work.distances) }}</span>
      </template>
      <template v-else>
        <strong :class="approximate.via.exact ? 'exact' : 'approx'">{{ approximate.via.exact ? 'Exact answer' : 'Approximate answer' }}</strong>
        <span>in {{ micros(approximate.timing.search_us) }}, {{ count(approximate.via.work.distances) }} distances</span>
      </template>
      <span v-if="form.filter && approximate.via.plan.allowed < approximate.via.plan.rows" class="soft">filter allows {{ count(approximate.via.plan.allowed) }} of {{ count(approximate.via.plan.rows) }}</span>
      <span class="tools row">
        <Button type="button" size="small" text icon="pi pi-chart-bar" label="Plan" :aria-pressed="form.plan" data-show-plan @click="shown(() => (form.plan = !form.plan))" />
        <Button type="button" size="small" text :icon="form.cards ? 'pi pi-list' : 'pi pi-th-large'" :label="form.cards ? 'List' : 'Cards'" data-show-cards @click="shown(() => (form.cards = !form.cards))" />
      </span>
    </div>
    <PlanPicture v-if="form.plan" :search="approximate" />
    <div v-for="n in approximate.notices" :key="n.code" class="notice"><i class="pi pi-info-circle" aria-hidden="true" /> {{ n.text }}</div>
    <div :class="{ pair: exact }">
      <section>
        <h2 :class="approximate.via.exact ? 'exact' : 'approx'">
          {{ approximate.via.exact ? 'Exact' : 'Approximate' }}
          <span class="soft normal">{{ strategyWords[approximate.via.plan.strategy] }}<template v-if="!approximate.via.exact">, {{ approximate.via.index }} with {{ settingsText(approximate.via.settings) }}</template> · {{ micros(approximate.timing.total_us) }} in all</span>
        </h2>
        <HitList :hits="approximate.hits" :marked="strayed" mark-title="Not among the true nearest" :exact="approximate.via.exact" :cards="form.cards" :from="form.skip" data-hits="approximate" @example="example" />
      </section>
      <section v-if="exact">
        <h2 class="exact">Exact <span class="soft normal">{{ strategyWords[exact.via.plan.strategy] }} · {{ micros(exact.timing.total_us) }} in all</span></h2>
        <HitList :hits="exact.hits" :marked="missed" mark-title="Missed by the approximate answer" exact :cards="form.cards" :from="form.skip" data-hits="exact" @example="example" />
      </section>
    </div>
    <div class="row pages">
      <Button v-if="form.skip" type="button" size="small" text icon="pi pi-angle-left" label="Previous hits" data-nearer data-page="previous" @click="page(Math.max(0, form.skip - form.k))" />
      <Button v-if="approximate.hits.length === form.k && form.skip + 2 * form.k <= 10000" type="button" size="small" text icon="pi pi-angle-right" :label="`Next ${form.k}`" data-further data-page="next" @click="page(form.skip + form.k)" />
    </div>
    <p class="soft times">
      encode {{ micros(approximate.timing.encode_us) }} · filter {{ micros(approximate.timing.filter_us) }} · search {{ micros(approximate.timing.search_us) }} · fetch {{ micros(approximate.timing.fetch_us) }} · revision {{ count(approximate.revision) }}
    </p>
  </div>
  <SearchStart v-else-if="!asked" />
</template>

<style scoped>
.ask { padding: 0.7rem 0.9rem; }
.line + .line { margin-top: 0.5rem; align-items: start; }
.grow { flex: 1; min-width: 16rem; }
.small { gap: 0.35rem; font-size: 0.93em; min-height: 1.95rem; }
:deep(.narrow) { width: 4.2rem; }
.verdict { margin-top: 0.8rem; padding: 0.45rem 0.9rem; gap: 1.1rem; }
.tools { margin-left: auto; gap: 0.2rem; }
.pair { display: grid; grid-template-columns: 1fr 1fr; gap: 1rem; }
.pair section { min-width: 0; }
.normal { font-weight: 400; font-size: 0.92em; }
.notice { margin: 0.5rem 0 0; color: var(--soft); }
.stale { opacity: 0.6; transition: opacity 0.15s 0.2s; }
.pages { margin-top: 0.4rem; }
.line { flex-wrap: wrap; }
.times { font-size: 0.9em; }
</style>
