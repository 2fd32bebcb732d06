<script setup lang="ts">
import { computed, defineAsyncComponent, onScopeDispose, ref, watch } from 'vue'
import Button from 'primevue/button'
import Checkbox from 'primevue/checkbox'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import InputNumber from 'primevue/inputnumber'
import Select from 'primevue/select'
import { useAction } from '../api/action'
import { api, pathOf } from '../api/client'
import { useQuery } from '../api/query'
import type { Observed, Watch } from '../api/shapes'
import { count, quoted, recallText } from '../api/words'
import { useCollection } from '../parts/collection'
import EqualCommands from '../parts/EqualCommands.vue'
import FailureNote from '../parts/FailureNote.vue'
import QueryState from '../parts/QueryState.vue'

const ObservedChart = defineAsyncComponent(() => import('../charts/ObservedChart.vue'))

const { collection } = useCollection()
const name = computed(() => collection.value.name)
const hours = ref(1)
const state = useQuery(() => [name.value, hours.value], (signal) => api.watchState(name.value, hours.value, signal), { keep: true })
const again = window.setInterval(() => void state.refresh(), 10_000)
onScopeDispose(() => clearInterval(again))

const checks = ref(false)
const budget = ref(2)
const floor = ref<number | null>(0.9)
const captures = ref(false)
const share = ref(1)
const keep = ref(1000)
const days = ref(7)
const texts = ref(false)
// The form shows what is set until somebody edits it.
let filled = false
watch(state.data, (now) => {
  if (!now || filled) return
  filled = true
  const { recall, capture } = now.watch
  checks.value = !!recall
  captures.value = !!capture
  if (recall) [budget.value, floor.value] = [recall.budget * 100, recall.floor ?? null]
  if (capture) [share.value, keep.value, days.value, texts.value] = [capture.share * 100, capture.keep ?? 1000, capture.days ?? 7, capture.texts ?? false]
})
const body = computed<Watch>(() => ({
  ...(checks.value ? { recall: { budget: budget.value / 100, ...(floor.value === null ? {} : { floor: floor.value }) } } : {}),
  ...(captures.value ? { capture: { share: share.value / 100, keep: keep.value, days: days.value, texts: texts.value } } : {}),
}))
const command = computed(() => `zesty watch set ${quoted(name.value)} --recall ${checks.value ? budget.value / 100 : 0}${checks.value && floor.value !== null ? ` --floor ${floor.value}` : ''} --capture ${captures.value ? share.value / 100 : 0}${captures.value ? ` --keep ${keep.value} --days ${days.value}${texts.value ? ' --texts' : ''}` : ''}`)
const set = useAction(async () => {
  await api.setWatch(name.value, body.value)
  await state.refresh()
})
const forget = useAction(async () => {
  await api.forgetCaptured(name.value)
  await state.refresh()
})
</script>

<template>
  <div class="row spread">
    <div><h1>Watch</h1><div class="soft">The recall that live searches get, and live searches as queries to measure with.</div></div>
    <Select v-model="hours" :options="[{ v: 1, l: 'last hour' }, { v: 24, l: 'last day' }, { v: 168, l: 'last week' }, { v: 720, l: 'last 30 days' }]" option-value="v" option-label="l" size="small" aria-label="Time shown" />
  </div>
  <form class="sheet gap" @submit.prevent="set.run()">
    <div class="row end">
      <label class="row check"><Checkbox v-model="checks" binary input-id="checks" aria-label="Check recall" /><span>answer some searches exactly as well</span></label>
      <div class="field"><label for="budget">% of processor time</label><InputNumber v-model="budget" :min="0.1" :max="50" :max-fraction-digits="1" :disabled="!checks" size="small" input-id="budget" input-class="narrow num" /></div>
      <div class="field"><label for="floor">Notice below recall</label><InputNumber v-model="floor" :min="0.01" :max="1" :max-fraction-digits="3" :disabled="!checks" size="small" input-id="floor" input-class="narrow num" /></div>
    </div>
    <div class="row end gap">
      <label class="row check"><Checkbox v-model="captures" binary input-id="captures" aria-label="Capture searches" /><span>capture searches as queries</span></label>
      <div class="field"><label for="share">% of searches</label><InputNumber v-model="share" :min="0.01" :max="100" :max-fraction-digits="2" :disabled="!captures" size="small" input-id="share" input-class="narrow num" /></div>
      <div class="field"><label for="keep">Keep the newest</label><InputNumber v-model="keep" :min="1" :max="10000" :disabled="!captures" size="small" input-id="keep" input-class="narrow num" /></div>
      <div class="field"><label for="days">Days</label><InputNumber v-model="days" :min="1" :max="90" :disabled="!captures" size="small" input-id="days" input-class="narrow num" /></div>
      <label class="row check"><Checkbox v-model="texts" binary input-id="texts" :disabled="!captures" aria-label="Keep texts" /><span>with their texts</span></label>
      <Button type="submit" size="small" icon="pi pi-eye" label="Set" :loading="set.busy.value" data-set-watch />
    </div>
    <EqualCommands :zesty="command" method="PUT" :path="`${pathOf(name)}/watch`" :body="body" />
  </form>
  <FailureNote v-if="set.failure.value" :failure="set.failure.value" :again="false" />
  <FailureNote v-if="forget.failure.value" :failure="forget.failure.value" :again="false" />
  <QueryState v-slot="{ data: s }" :query="state">
    <p v-for="n in s.notices" :key="n.text" class="note bad"><i class="pi pi-exclamation-triangle" aria-hidden="true" /> {{ n.text }}</p>
    <div v-if="s.steps.length" class="sheet gap" data-observed>
      <ObservedChart :steps="s.steps" :floor="s.watch.recall?.floor ?? null" />
      <DataTable :value="s.overall" data-key="index" size="small" scrollable>
        <Column header="Index" field="index" />
        <Column header="Searches checked" class="num"><template #body="{ data: o }: { data: Observed }">{{ count(o.searches) }}</template></Column>
        <Column header="Recall" class="num approx"><template #body="{ data: o }: { data: Observed }">{{ recallText(o.recall_mean) }}</template></Column>
        <Column header="19 of 20 in" class="num"><template #body="{ data: o }: { data: Observed }">{{ recallText(o.recall_low) }} to {{ recallText(o.recall_high) }}</template></Column>
      </DataTable>
    </div>
    <p v-else class="soft gap">Nothing was observed in this time. Searches that an index answers are checked while the box above is ticked.</p>
    <p class="soft">{{ count(s.captured) }} captured searches are kept. <template v-if="s.captured"><RouterLink :to="`/c/${encodeURIComponent(name)}/queries`">Make a query set of them</RouterLink>, or <Button size="small" text class="slim" label="forget them" :loading="forget.busy.value" @click="forget.run()" /></template><template v-if="s.spent !== null"> Exact answers took {{ (s.spent * 100).toFixed(2) }}% of the processor time of this node.</template></p>
  </QueryState>
</template>

<style scoped>
.end { align-items: end; }
.check { padding-bottom: 0.35rem; min-width: 17rem; }
.note { margin: 0.6rem 0; padding: 0.4rem 0.7rem; background: var(--tint); border: 1px solid var(--line); border-radius: 4px; }
:deep(.narrow) { width: 5.4rem; }
</style>
