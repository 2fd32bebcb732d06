<script setup lang="ts">
/** One query at a time: the hits of both sides next to each other, and the verdict of a person. */
import { computed, ref, watch } from 'vue'
import Button from 'primevue/button'
import Checkbox from 'primevue/checkbox'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import { useAction } from '../api/action'
import { api, pathOf } from '../api/client'
import { useQuery } from '../api/query'
import type { ComparedHit, Comparison, Verdict, Verdicts } from '../api/shapes'
import { chanceText, quoted } from '../api/words'
import EqualCommands from './EqualCommands.vue'
import FailureNote from './FailureNote.vue'
import QueryState from './QueryState.vue'
import RecordText from './RecordText.vue'
import { useCollection } from './collection'

const props = defineProps<{ comparison: Comparison; names: [string, string] }>()
const emit = defineEmits<{ judged: [] }>()
const { collection } = useCollection()
const name = computed(() => collection.value.name)

/** The place among the queries, those that differ most first. */
const place = ref(0)
const n = computed(() => props.comparison.result.query_set.n_queries)
const page = useQuery(() => [props.comparison.id, place.value], (signal) => api.comparedQueries(name.value, props.comparison.id, place.value, 1, signal), { keep: true })
const query = computed(() => page.data.value?.queries[0] ?? null)
const go = (by: number) => { place.value = Math.max(0, Math.min(n.value - 1, place.value + by)) }

/** Whose name is seen is not judged fairly: while hidden, half of the queries show the sides the other way round. */
const hidden = ref(false)
const turned = computed(() => hidden.value && ((query.value?.position ?? 0) * 2654435761) % 7 < 3)
const sides = computed(() => {
  const q = query.value
  if (!q) return []
  const both: { key: 'left' | 'right'; title: string; hits: ComparedHit[] }[] = [
    { key: 'left', title: `Left: ${props.names[0]}`, hits: q.left },
    { key: 'right', title: `Right: ${props.names[1]}`, hits: q.right },
  ]
  const shown = turned.value ? both.reverse() : both
  return shown.map((s, i) => ({ ...s, title: hidden.value ? ['One', 'Two'][i] : s.title }))
})
const rows = computed(() => Array.from({ length: Math.max(0, ...sides.value.map((s) => s.hits.length)) }, (_, i) => ({ rank: i + 1, hits: sides.value.map((s) => s.hits[i] ?? null) })))

const verdicts = ref<Verdicts>(props.comparison.verdicts)
watch(() => props.comparison, (c) => { verdicts.value = c.verdicts })
const judge = useAction(async (verdict: Verdict | null) => {
  const q = query.value
  if (!q) return
  verdicts.value = await api.judge(name.value, props.comparison.id, q.position, verdict)
  emit('judged')
  if (verdict) go(1)
  await page.refresh()
})
const choices = computed<{ verdict: Verdict; label: string; key: string }[]>(() => [
  { verdict: sides.value[0]?.key ?? 'left', label: hidden.value ? 'One is better' : 'Left is better', key: '1' },
  { verdict: 'same', label: 'Both as good', key: '2' },
  { verdict: 'neither', label: 'Both bad', key: '3' },
  { verdict: sides.value[1]?.key ?? 'right', label: hidden.value ? 'Two is better' : 'Right is better', key: '4' },
])
const asks = computed(() => {
  const q = query.value
  if (!q) return ''
  return q.text ? `“${q.text}”` : q.record ? `more like ${q.record}` : 'a vector'
})
</script>

<template>
  <section class="sheet gap" data-judging>
    <div class="row spread">
      <h2 class="first">Which side is better? <span class="soft normal">left {{ verdicts.left }}, right {{ verdicts.right }}, as good {{ verdicts.same }}, bad {{ verdicts.neither }}; sign test {{ chanceText(verdicts.p) }}</span></h2>
      <label class="row small"><Checkbox v-model="hidden" binary input-id="hidden" aria-label="Hide which side is which" /><span>hide which side is which</span></label>
    </div>
    <QueryState v-slot="{ data }" :query="page">
      <template v-if="data.queries[0]">
        <div class="row spread">
          <div><strong>{{ asks }}</strong> <span class="soft">query {{ data.queries[0].position }}, {{ place + 1 }} of {{ n }} by how much the sides differ: both have {{ (data.queries[0].overlap * 100).toFixed(0) }}%<template v-if="!hidden">; recall {{ data.queries[0].left_recall.toFixed(2) }} and {{ data.queries[0].right_recall.toFixed(2) }}</template></span></div>
          <div class="row">
            <Button size="small" text class="slim" icon="pi pi-chevron-left" aria-label="Previous query" data-page="previous" :disabled="place === 0" @click="go(-1)" />
            <Button size="small" text class="slim" icon="pi pi-chevron-right" aria-label="Next query" data-page="next" :disabled="place + 1 >= n" @click="go(1)" />
          </div>
        </div>
        <div class="row choices">
          <Button v-for="c in choices" :key="c.key" size="small" :outlined="data.queries[0].verdict !== c.verdict" :label="c.label" :badge="c.key" :data-verdict="c.verdict" :data-digit="c.key" :loading="judge.busy.value" @click="judge.run(c.verdict)" />
          <Button v-if="data.queries[0].verdict" size="small" text label="take it back" @click="judge.run(null)" />
        </div>
        <DataTable :value="rows" data-key="rank" size="small" class="both" data-both>
          <Column header="" field="rank" class="num soft rank" />
          <Column v-for="(s, side) in sides" :key="s.key" :header="s.title">
            <template #body="{ data: r }: { data: { hits: (ComparedHit | null)[] } }">
              <div v-for="hit in [r.hits[side]].filter((h) => !!h)" :key="hit.rank" :class="{ alone: hit.other_rank === null }">
                <div class="row spread"><code>{{ hit.key ?? 'the record is gone' }}</code><span class="soft num">{{ hit.other_rank === null ? 'only here' : hit.other_rank === hit.rank ? '' : `other side: ${hit.other_rank}` }} {{ hit.grade ? `grade ${hit.grade}` : '' }} {{ hit.distance.toFixed(4) }}</span></div>
                <RecordText :fields="hit.fields" />
              </div>
            </template>
          </Column>
        </DataTable>
      </template>
    </QueryState>
    <FailureNote v-if="judge.failure.value" :failure="judge.failure.value" :again="false" />
    <EqualCommands v-if="query" :zesty="`zesty compare judge ${quoted(name)} ${comparison.id} ${query.position} left`" method="PUT" :path="`${pathOf(name)}/comparisons/${comparison.id}/queries/${query.position}/verdict`" :body="{ verdict: 'left' }" />
    <p class="soft small none"><kbd>1</kbd> to <kbd>4</kbd> judge, <kbd>n</kbd> <kbd>p</kbd> next and previous query</p>
  </section>
</template>

<style scoped>
.first { margin: 0; }
.choices { margin: 0.5rem 0; }
.both :deep(table) { table-layout: fixed; }
.both :deep(.rank) { width: 2.4rem; }
.both :deep(td) { overflow-wrap: anywhere; }
.alone { border-left: 3px solid var(--approx); padding-left: 0.5rem; }
</style>
