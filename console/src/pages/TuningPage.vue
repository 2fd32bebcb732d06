<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import Button from 'primevue/button'
import Checkbox from 'primevue/checkbox'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import InputNumber from 'primevue/inputnumber'
import InputText from 'primevue/inputtext'
import MultiSelect from 'primevue/multiselect'
import Select from 'primevue/select'
import { useAction } from '../api/action'
import { api, pathOf } from '../api/client'
import { useJobs } from '../api/jobs'
import { useQuery } from '../api/query'
import { madeOf, type Job, type Sweep, type SweepRequest, type Target, type TargetRequest } from '../api/shapes'
import { micros, quoted, recallText, settingsText, when } from '../api/words'
import { useCollection } from '../parts/collection'
import EqualCommands from '../parts/EqualCommands.vue'
import FailureNote from '../parts/FailureNote.vue'
import QueryState from '../parts/QueryState.vue'
import ReportDownloads from '../parts/ReportDownloads.vue'
import ServingMark from '../parts/ServingMark.vue'
import SweepReport from '../parts/SweepReport.vue'

const { collection, refresh } = useCollection()
const name = computed(() => collection.value.name)
const route = useRoute()
const router = useRouter()
const { follow } = useJobs()
const sweeps = useQuery(() => name.value, (signal) => api.sweeps(name.value, signal), { keep: true })
const targets = useQuery(() => name.value, (signal) => api.targets(name.value, signal), { keep: true })
const sets = useQuery(() => name.value, (signal) => api.querySets(name.value, signal), { keep: true })
const setNames = computed(() => (sets.data.value ?? []).map((s) => s.name))

const ready = computed(() => collection.value.indexes.filter((i) => i.state === 'ready'))
const indexes = ref<string[]>([])
watch(ready, (all) => {
  indexes.value = indexes.value.filter((n) => all.some((i) => i.name === n))
  if (!indexes.value.length && all[0]) indexes.value = [all[0].name]
}, { immediate: true })
const chosenSets = ref<string[]>([])
const isCells = (index: string) => /(^|\| )cells/.test(ready.value.find((i) => i.name === index)?.recipe ?? '')
const numbers = (text: string) => text.split(/[\s,]+/).filter(Boolean).map(Number)
const k = ref('10')
const beams = ref('10, 16, 24, 40, 64, 100, 160, 256')
const visits = ref('1, 2, 4, 8, 16, 32, 64')
const walks = computed(() => indexes.value.some((i) => !isCells(i)))
const visited = computed(() => indexes.value.some(isCells))
const asked = computed<SweepRequest>(() => ({
  indexes: indexes.value, k: numbers(k.value),
  ...(chosenSets.value.length ? { query_sets: chosenSets.value } : {}),
  ...(walks.value ? { beams: numbers(beams.value) } : {}), ...(visited.value ? { visits: numbers(visits.value) } : {}),
}))
const sweepCommand = computed(() => ['zesty sweep run', quoted(name.value), ...indexes.value.map(quoted), `-k ${numbers(k.value).join(',')}`,
  chosenSets.value.length && `--queries ${chosenSets.value.join(',')}`, walks.value && `--beams ${numbers(beams.value).join(',')}`, visited.value && `--visits ${numbers(visits.value).join(',')}`].filter(Boolean).join(' '))
/** Whatever was measured is shown, also of a job that ended early. */
const finished = (job: Job) => { if (job.error) throw new Error(job.error) }
const run = useAction(async () => {
  const job = await follow(await api.runSweep(name.value, asked.value))
  await Promise.all([sweeps.refresh(), sets.refresh()])
  finished(job)
  const sweep = madeOf(job, 'sweep')
  if (sweep !== null) await router.replace({ query: { sweep: String(sweep) } })
})

const goal = ref(0.95)
const aim = ref<'mean' | 'p5'>('mean')
const goalIndex = ref('')
watch(ready, (all) => { if (!all.some((i) => i.name === goalIndex.value)) goalIndex.value = all[0]?.name ?? '' }, { immediate: true })
const serves = ref(false)
const goalK = ref(10)
const wanted = computed<TargetRequest>(() => ({ index: goalIndex.value, recall: goal.value, aim: aim.value, k: goalK.value, ...(chosenSets.value.length ? { query_sets: chosenSets.value } : {}), ...(serves.value ? { serve: true } : {}) }))
const targetCommand = computed(() => `zesty target solve ${quoted(name.value)} ${quoted(goalIndex.value)} --recall ${goal.value}${aim.value === 'p5' ? ' --p5' : ''} -k ${goalK.value}${chosenSets.value.length ? ` --queries ${chosenSets.value.join(',')}` : ''}${serves.value ? ' --serve' : ''}`)
const solve = useAction(async () => {
  const job = await follow(await api.solveTarget(name.value, wanted.value))
  await Promise.all([targets.refresh(), sets.refresh(), serves.value ? refresh() : null])
  finished(job)
  const target = madeOf(job, 'target')
  if (target !== null) await router.push(`/c/${encodeURIComponent(name.value)}/targets/${target}`)
})

const shown = computed<Sweep | null>(() => {
  const all = sweeps.data.value ?? []
  return all.find((s) => String(s.id) === route.query.sweep) ?? all[0] ?? null
})
const sweepName = (s: Sweep) => `sweep ${s.id}: ${s.result.indexes.map((i) => i.name).join(', ')}, ${when(s.created_at)}`
const at = (tail: string) => `/c/${encodeURIComponent(name.value)}${tail}`
</script>

<template>
  <div class="row spread">
    <div><h1>Tuning</h1><div class="soft">Recall and latency for queries that no index has seen, measured against the exact answer.</div></div>
    <div class="row"><span class="soft">answers searches:</span><ServingMark v-for="c in collection.columns" :key="c.name" :serving="c.serving" /></div>
  </div>

  <div v-if="!ready.length" class="sheet gap">
    <strong>No index to measure yet.</strong>
    <p class="soft">Build one on the <RouterLink :to="at('/indexes')">page of indexes</RouterLink>, or run <code>zesty index build {{ name }}</code>.</p>
  </div>
  <template v-else>
    <div class="sheet gap forms">
      <div class="row end">
        <div class="field"><label id="sets">Query sets, of both</label><MultiSelect v-model="chosenSets" :options="setNames" size="small" placeholder="sampled" aria-labelledby="sets" :max-selected-labels="2" /></div>
        <p class="soft hint">Without a set, one is drawn: records that every index can be searched without. <RouterLink :to="at('/queries')">All query sets</RouterLink></p>
      </div>
      <form @submit.prevent="run.run()">
        <h2>Sweep: what do I get?</h2>
        <div class="row end">
          <div class="field"><label id="ix">Indexes</label><MultiSelect v-model="indexes" :options="ready.map((i) => i.name)" size="small" aria-labelledby="ix" :max-selected-labels="2" /></div>
          <div class="field"><label for="k">k</label><InputText id="k" v-model="k" size="small" class="mono narrow" /></div>
          <div v-if="walks" class="field grow"><label for="b">Beams</label><InputText id="b" v-model="beams" size="small" class="mono wide" /></div>
          <div v-if="visited" class="field grow"><label for="v">Cells visited</label><InputText id="v" v-model="visits" size="small" class="mono wide" /></div>
          <Button type="submit" size="small" icon="pi pi-chart-line" :label="run.busy.value ? 'Measuring…' : 'Run sweep'" :loading="run.busy.value" data-run-sweep />
        </div>
        <EqualCommands :zesty="sweepCommand" method="POST" :path="`${pathOf(name)}/sweeps`" :body="asked" />
      </form>
      <form @submit.prevent="solve.run()">
        <h2>Target: what must I set?</h2>
        <div class="row end">
          <div class="field"><label id="gi">Index</label><Select v-model="goalIndex" :options="ready.map((i) => i.name)" size="small" aria-labelledby="gi" /></div>
          <div class="field"><label id="aim">Reached by</label><Select v-model="aim" :options="[{ v: 'mean', l: 'the mean' }, { v: 'p5', l: '19 of 20 queries' }]" option-value="v" option-label="l" size="small" aria-labelledby="aim" /></div>
          <div class="field"><label for="goal">Recall</label><InputNumber v-model="goal" :min="0.01" :max="1" :min-fraction-digits="2" :max-fraction-digits="4" :step="0.01" size="small" input-id="goal" input-class="narrow num" /></div>
          <div class="field"><label for="gk">k</label><InputNumber v-model="goalK" :min="1" :max="1000" size="small" input-id="gk" input-class="narrow num" /></div>
          <label class="row small check"><Checkbox v-model="serves" binary input-id="serves" aria-label="Serve it if it is reached" /><span>serve it if it is reached</span></label>
          <Button type="submit" size="small" icon="pi pi-bullseye" :label="solve.busy.value ? 'Solving…' : 'Find settings'" :loading="solve.busy.value" data-solve />
        </div>
        <EqualCommands :zesty="targetCommand" method="POST" :path="`${pathOf(name)}/targets`" :body="wanted" />
      </form>
    </div>
  </template>
  <FailureNote v-if="run.failure.value" :failure="run.failure.value" :again="false" />
  <FailureNote v-if="solve.failure.value" :failure="solve.failure.value" :again="false" />

  <QueryState v-slot="{ data }" :query="targets">
    <div v-if="data.length" class="sheet gap">
      <DataTable :value="data.slice(0, 5)" data-key="id" size="small" scrollable data-targets>
        <Column header="Target" class="nowrap"><template #body="{ data: t }: { data: Target }"><RouterLink :to="at(`/targets/${t.id}`)">{{ t.spec.aim === 'p5' ? 'p5 of recall' : 'recall' }}@{{ t.spec.k }} ≥ {{ t.spec.recall }}</RouterLink></template></Column>
        <Column header="Index"><template #body="{ data: t }: { data: Target }">{{ t.spec.index }}</template></Column>
        <Column header="Verdict"><template #body="{ data: t }: { data: Target }"><span :class="t.result.reached ? 'exact' : 'bad'">{{ t.result.reached ? 'reached' : 'not reached' }}</span><span v-if="t.stale" class="soft">, stale</span></template></Column>
        <Column header="Achieved" class="num approx"><template #body="{ data: t }: { data: Target }">{{ recallText(t.spec.aim === 'p5' ? t.result.achieved.recall_p5 : t.result.achieved.recall_mean) }}</template></Column>
        <Column header="Settings"><template #body="{ data: t }: { data: Target }">{{ settingsText(t.result.settings) }}</template></Column>
        <Column header="p50" class="num"><template #body="{ data: t }: { data: Target }">{{ micros(t.result.achieved.p50_us) }}</template></Column>
        <Column header="Solved" class="num"><template #body="{ data: t }: { data: Target }"><span class="soft">{{ when(t.created_at) }}</span></template></Column>
      </DataTable>
    </div>
  </QueryState>

  <QueryState v-slot="{ data }" :query="sweeps">
    <template v-if="shown">
      <div class="row spread head">
        <h2><RouterLink :to="at(`/sweeps/${shown.id}`)">Sweep {{ shown.id }}</RouterLink> <code v-if="shown.result.indexes.length === 1" class="soft normal">{{ shown.result.indexes[0]?.recipe }}</code></h2>
        <div class="row">
          <Select :model-value="shown.id" :options="data" option-value="id" :option-label="sweepName" size="small" aria-label="Sweep" @update:model-value="(id: number) => router.replace({ query: { sweep: String(id) } })" />
          <ReportDownloads :id="shown.id" :collection="name" kind="sweep" />
        </div>
      </div>
      <SweepReport :sweep="shown" />
    </template>
    <p v-else-if="ready.length" class="soft">No sweep yet. Run one above: it holds records out, finds their exact neighbours, and measures each setting against them.</p>
  </QueryState>
</template>

<style scoped>
.forms h2 { margin: 0.7rem 0 0.4rem; }
.end { align-items: end; }
.grow { flex: 1; min-width: 10rem; }
.wide { width: 100%; }
.hint { margin: 0 0 0.35rem; font-size: 0.92em; }
.check { padding-bottom: 0.35rem; }
.head { margin-top: 0.6rem; }
.head h2 { margin: 0.6rem 0; }
.narrow, :deep(.narrow) { width: 5rem; }
</style>
