<script setup lang="ts">
import { computed, defineAsyncComponent, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import Button from 'primevue/button'
import Checkbox from 'primevue/checkbox'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import InputNumber from 'primevue/inputnumber'
import Select from 'primevue/select'
import { useAction } from '../api/action'
import { api, pathOf } from '../api/client'
import { useJobs } from '../api/jobs'
import { useQuery } from '../api/query'
import { madeOf, type Advice, type AdviceRequest, type Candidate } from '../api/shapes'
import { bytes, count, micros, quoted, recallText, seconds, settingsText, when } from '../api/words'
import { useCollection } from '../parts/collection'
import EqualCommands from '../parts/EqualCommands.vue'
import FailureNote from '../parts/FailureNote.vue'
import QueryState from '../parts/QueryState.vue'
import ReportDownloads from '../parts/ReportDownloads.vue'

const AdviceChart = defineAsyncComponent(() => import('../charts/AdviceChart.vue'))

const { collection, refresh } = useCollection()
const name = computed(() => collection.value.name)
const route = useRoute()
const router = useRouter()
const { follow } = useJobs()
const advice = useQuery(() => name.value, (signal) => api.advice(name.value, signal), { keep: true })
const sets = useQuery(() => name.value, (signal) => api.querySets(name.value, signal), { keep: true })
const column = ref(collection.value.default_column ?? collection.value.columns[0]?.name ?? '')
const setNames = computed(() => (sets.data.value ?? []).filter((s) => s.column === column.value).map((s) => s.name))

const goal = ref(0.95)
const aim = ref<'mean' | 'p5'>('mean')
const k = ref(10)
const memory = ref<number | null>(null)
const set = ref<string | null>(null)
const serve = ref(false)
const asked = computed<AdviceRequest>(() => ({
  column: column.value, recall: goal.value, aim: aim.value, k: k.value,
  ...(memory.value ? { memory_mb: memory.value } : {}), ...(set.value ? { query_set: set.value } : {}), ...(serve.value ? { serve: true } : {}),
}))
const command = computed(() => `zesty advise run ${quoted(name.value)} --recall ${goal.value}${aim.value === 'p5' ? ' --p5' : ''} -k ${k.value}${memory.value ? ` --memory ${memory.value}` : ''}${set.value ? ` --queries ${quoted(set.value)}` : ''}${serve.value ? ' --serve' : ''} --column ${quoted(column.value)}`)
const run = useAction(async () => {
  const job = await follow(await api.advise(name.value, asked.value))
  await Promise.all([advice.refresh(), sets.refresh(), refresh()])
  if (job.error) throw new Error(job.error)
  const made = madeOf(job, 'advice')
  if (made !== null) await router.replace({ query: { advice: String(made) } })
})
const shown = computed<Advice | null>(() => {
  const all = advice.data.value ?? []
  return all.find((a) => String(a.id) === route.query.advice) ?? all[0] ?? null
})
const title = (a: Advice) => `${a.spec.aim === 'p5' ? 'p5 of recall' : 'recall'}@${a.spec.k} ≥ ${a.spec.recall}${a.spec.memory_mb ? `, within ${a.spec.memory_mb} MB` : ''}, ${when(a.created_at)}`
const trial = (c: Candidate) => c.on_all ?? c.on_sample
</script>

<template>
  <div><h1>Advice</h1><div class="soft">Which recipe reaches what I need, in the memory I have? Recipes that fit are tried on some of the records, the best few on all. From then on <code>auto</code> takes the winner.</div></div>
  <form class="sheet gap" @submit.prevent="run.run()">
    <div class="row end">
      <div v-if="collection.columns.length > 1" class="field"><label id="acol">Column</label><Select v-model="column" :options="collection.columns.map((c) => c.name)" size="small" aria-labelledby="acol" /></div>
      <div class="field"><label id="aaim">Reached by</label><Select v-model="aim" :options="[{ v: 'mean', l: 'the mean' }, { v: 'p5', l: '19 of 20 queries' }]" option-value="v" option-label="l" size="small" aria-labelledby="aaim" /></div>
      <div class="field"><label for="agoal">Recall</label><InputNumber v-model="goal" :min="0.01" :max="1" :min-fraction-digits="2" :max-fraction-digits="4" :step="0.01" size="small" input-id="agoal" input-class="narrow num" /></div>
      <div class="field"><label for="ak">k</label><InputNumber v-model="k" :min="1" :max="1000" size="small" input-id="ak" input-class="narrow num" /></div>
      <div class="field"><label for="amem">Memory, MB</label><InputNumber v-model="memory" :min="0.1" :max-fraction-digits="1" size="small" input-id="amem" input-class="narrow num" placeholder="any" /></div>
      <div class="field"><label id="aset">Query set</label><Select v-model="set" :options="setNames" size="small" placeholder="sampled" show-clear aria-labelledby="aset" /></div>
      <label class="row small check"><Checkbox v-model="serve" binary input-id="aserve" aria-label="Serve the winner" /><span>serve the winner</span></label>
      <Button type="submit" size="small" icon="pi pi-trophy" :label="run.busy.value ? 'Trying…' : 'Try recipes'" :loading="run.busy.value" data-advise />
    </div>
    <EqualCommands :zesty="command" method="POST" :path="`${pathOf(name)}/advice`" :body="asked" />
  </form>
  <FailureNote v-if="run.failure.value" :failure="run.failure.value" :again="false" />
  <QueryState v-slot="{ data }" :query="advice">
    <template v-if="shown">
      <div class="row spread head">
        <h2>Advice {{ shown.id }} <span class="soft normal">for {{ shown.column }}, on {{ count(shown.result.n_queries) }} queries of {{ shown.result.query_set }}<template v-if="shown.stale">; the collection has changed since</template></span></h2>
        <div class="row"><ReportDownloads :id="shown.id" :collection="name" kind="advice" /><Select :model-value="shown.id" :options="data" option-value="id" :option-label="title" size="small" aria-label="Advice" @update:model-value="(id: number) => router.replace({ query: { advice: String(id) } })" /></div>
      </div>
      <section class="sheet" data-advice>
        <p class="verdict" :class="shown.result.winner ? 'exact' : 'bad'"><i :class="shown.result.winner ? 'pi pi-check-circle' : 'pi pi-times-circle'" aria-hidden="true" /> {{ shown.result.why }}</p>
        <p v-if="shown.result.served" class="none"><span class="lampmark"><i class="pi pi-lightbulb" aria-hidden="true" />serving</span> It became the serving choice.</p>
        <AdviceChart v-if="shown.result.candidates.some(trial)" :advice="shown" />
        <p class="soft small none">The diamond wins. Hollow marks were tried on some of the records only, and red ones missed the target.</p>
      </section>
      <section class="sheet gap">
        <DataTable :value="shown.result.candidates" data-key="recipe" size="small" scrollable :row-class="(c: Candidate) => (c.recipe === shown?.result.winner ? 'on' : '')" data-candidates>
          <Column header="Recipe"><template #body="{ data: c }: { data: Candidate }"><code>{{ c.recipe }}</code><div v-if="c.index" class="soft small">index {{ c.index }}</div></template></Column>
          <Column header="Records" class="num"><template #body="{ data: c }: { data: Candidate }">{{ trial(c) ? count(trial(c)?.n_rows ?? 0) : '' }}</template></Column>
          <Column header="Settings"><template #body="{ data: c }: { data: Candidate }">{{ settingsText(trial(c)?.settings) }}</template></Column>
          <Column header="Recall" class="num approx"><template #body="{ data: c }: { data: Candidate }">{{ trial(c) ? recallText(trial(c)?.figures.recall_mean ?? 0) : '' }}</template></Column>
          <Column header="p5" class="num"><template #body="{ data: c }: { data: Candidate }">{{ trial(c)?.figures.recall_p5.toFixed(2) }}</template></Column>
          <Column header="p50" class="num"><template #body="{ data: c }: { data: Candidate }">{{ trial(c) ? micros(trial(c)?.figures.p50_us ?? 0) : '' }}</template></Column>
          <Column header="p99" class="num"><template #body="{ data: c }: { data: Candidate }">{{ trial(c) ? micros(trial(c)?.figures.p99_us ?? 0) : '' }}</template></Column>
          <Column header="Memory" class="num"><template #body="{ data: c }: { data: Candidate }">{{ c.on_all ? bytes(c.on_all.memory_bytes) : `~${bytes(c.expected_memory_bytes)}` }}</template></Column>
          <Column header="Build" class="num"><template #body="{ data: c }: { data: Candidate }">{{ trial(c) ? seconds(trial(c)?.build_seconds ?? 0) : '' }}</template></Column>
          <Column header="Verdict"><template #body="{ data: c }: { data: Candidate }">{{ c.verdict }}</template></Column>
        </DataTable>
        <p v-for="n in shown.result.notices" :key="n.code" class="approx none">{{ n.text }}</p>
      </section>
    </template>
    <p v-else class="soft gap">No advice yet. Say above what searches must reach.</p>
  </QueryState>
</template>

<style scoped>
.end { align-items: end; }
.check { padding-bottom: 0.35rem; }
.verdict { margin: 0 0 0.3rem; font-weight: 600; }
.head h2 { margin: 0.8rem 0 0.5rem; }
:deep(.narrow) { width: 5rem; }
</style>
