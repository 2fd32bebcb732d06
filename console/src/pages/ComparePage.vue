<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import Button from 'primevue/button'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import InputNumber from 'primevue/inputnumber'
import Select from 'primevue/select'
import { useAction } from '../api/action'
import { api, pathOf } from '../api/client'
import { useJobs } from '../api/jobs'
import { useQuery } from '../api/query'
import { madeOf, type CompareSide, type Comparison, type ComparisonRequest } from '../api/shapes'
import { quoted, recallText, sideText, when } from '../api/words'
import { useCollection } from '../parts/collection'
import EqualCommands from '../parts/EqualCommands.vue'
import FailureNote from '../parts/FailureNote.vue'
import QueryState from '../parts/QueryState.vue'

const { collection } = useCollection()
const name = computed(() => collection.value.name)
const router = useRouter()
const { follow } = useJobs()
const comparisons = useQuery(() => name.value, (signal) => api.comparisons(name.value, signal), { keep: true })
const sets = useQuery(() => name.value, (signal) => api.querySets(name.value, signal), { keep: true })
const setNames = computed(() => (sets.data.value ?? []).map((s) => s.name))

/** A side answers by an index, or exactly in a column. */
interface Choice { what: string; setting: number | null; rescore: number | null }
const choices = computed(() => [
  ...collection.value.indexes.filter((i) => i.state === 'ready').map((i) => ({ value: `index:${i.name}`, label: i.name })),
  ...collection.value.columns.map((c) => ({ value: `exact:${c.name}`, label: `exact scan of ${c.name}` })),
])
const left = ref<Choice>({ what: '', setting: null, rescore: null })
const right = ref<Choice>({ what: '', setting: null, rescore: null })
watch(choices, (all) => {
  const there = (c: Choice) => all.some((o) => o.value === c.what)
  if (!there(left.value)) left.value.what = all[0]?.value ?? ''
  if (!there(right.value)) right.value.what = all[1]?.value ?? ''
}, { immediate: true })
const recipeOf = (c: Choice) => collection.value.indexes.find((i) => `index:${i.name}` === c.what)?.recipe ?? ''
const settingOf = (c: Choice) => (/(^|\| )cells/.test(recipeOf(c)) ? 'visit' : /(^|\| )graph/.test(recipeOf(c)) ? 'beam' : null)
const takesRescore = (c: Choice) => recipeOf(c).includes('rescore')
function side(c: Choice): CompareSide {
  if (c.what.startsWith('exact:')) return { column: c.what.slice(6) }
  const word = settingOf(c)
  return {
    index: c.what.slice(6),
    settings: { ...(word && c.setting ? { [word]: c.setting } : {}), ...(takesRescore(c) && c.rescore ? { rescore: c.rescore } : {}) },
  }
}
const set = ref<string | null>(null)
const k = ref(10)
const asked = computed<ComparisonRequest>(() => ({ left: side(left.value), right: side(right.value), k: k.value, ...(set.value ? { query_set: set.value } : {}) }))
const command = computed(() => `zesty compare run ${quoted(name.value)} ${sideText(asked.value.left)} ${sideText(asked.value.right)} -k ${k.value}${set.value ? ` --queries ${quoted(set.value)}` : ''}`)
const at = (id: number) => `/c/${encodeURIComponent(name.value)}/comparisons/${id}`
const run = useAction(async () => {
  const job = await follow(await api.runComparison(name.value, asked.value))
  await comparisons.refresh()
  if (job.error) throw new Error(job.error)
  const made = madeOf(job, 'comparison')
  if (made !== null) await router.push(at(made))
})
const sides = computed(() => [{ title: 'Left', of: left.value }, { title: 'Right', of: right.value }])
</script>

<template>
  <div><h1>Compare</h1><div class="soft">Two indexes, two settings, or two vector columns, asked the same queries. A query of a set is asked of another column by its record's vector there, or by its text.</div></div>
  <form class="sheet gap" @submit.prevent="run.run()">
    <div class="row end">
      <template v-for="s in sides" :key="s.title">
        <div class="field"><label :id="`side-${s.title}`">{{ s.title }}</label><Select v-model="s.of.what" :options="choices" option-value="value" option-label="label" size="small" :aria-labelledby="`side-${s.title}`" /></div>
        <div v-if="settingOf(s.of)" class="field"><label :for="`set-${s.title}`">{{ settingOf(s.of) === 'visit' ? 'Visit' : 'Beam' }}</label><InputNumber v-model="s.of.setting" :min="1" :max="10000" size="small" :input-id="`set-${s.title}`" input-class="narrow num" placeholder="usual" /></div>
        <div v-if="takesRescore(s.of)" class="field"><label :for="`re-${s.title}`">Rescore</label><InputNumber v-model="s.of.rescore" :min="1" :max="100" size="small" :input-id="`re-${s.title}`" input-class="narrow num" placeholder="usual" /></div>
        <span v-if="s.title === 'Left'" class="against soft" aria-hidden="true">against</span>
      </template>
      <div class="field"><label id="cset">Query set</label><Select v-model="set" :options="setNames" size="small" placeholder="sampled" show-clear aria-labelledby="cset" /></div>
      <div class="field"><label for="ck">k</label><InputNumber v-model="k" :min="1" :max="100" size="small" input-id="ck" input-class="narrow num" /></div>
      <Button type="submit" size="small" icon="pi pi-arrows-h" :label="run.busy.value ? 'Comparing…' : 'Compare'" :loading="run.busy.value" data-compare />
    </div>
    <EqualCommands :zesty="command" method="POST" :path="`${pathOf(name)}/comparisons`" :body="asked" />
  </form>
  <FailureNote v-if="run.failure.value" :failure="run.failure.value" :again="false" />
  <QueryState v-slot="{ data }" :query="comparisons">
    <section v-if="data.length" class="sheet gap">
      <DataTable :value="data" data-key="id" size="small" scrollable data-comparisons>
        <Column header="Comparison"><template #body="{ data: c }: { data: Comparison }"><RouterLink :to="at(c.id)">{{ sideText(c.spec.left) }} and {{ sideText(c.spec.right) }}</RouterLink><span v-if="c.stale" class="soft">, stale</span></template></Column>
        <Column header="Query set"><template #body="{ data: c }: { data: Comparison }">{{ c.result.query_set.name }}</template></Column>
        <Column header="Both have" class="num"><template #body="{ data: c }: { data: Comparison }">{{ ((c.result.overlap.at(-1) ?? 0) * 100).toFixed(1) }}%</template></Column>
        <Column header="Left recall" class="num"><template #body="{ data: c }: { data: Comparison }">{{ recallText(c.result.left.recall_mean) }}</template></Column>
        <Column header="Right recall" class="num"><template #body="{ data: c }: { data: Comparison }">{{ recallText(c.result.right.recall_mean) }}</template></Column>
        <Column header="Verdicts" class="num"><template #body="{ data: c }: { data: Comparison }">{{ c.verdicts.left }} : {{ c.verdicts.right }}</template></Column>
        <Column header="Made" class="num"><template #body="{ data: c }: { data: Comparison }"><span class="soft">{{ when(c.created_at) }}</span></template></Column>
      </DataTable>
    </section>
    <p v-else class="soft gap">No comparison yet. Choose two sides above.</p>
  </QueryState>
</template>

<style scoped>
.end { align-items: end; }
.against { padding-bottom: 0.35rem; }
:deep(.narrow) { width: 5rem; }
</style>
