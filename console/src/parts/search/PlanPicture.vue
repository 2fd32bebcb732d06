<script setup lang="ts">
/** How a search was run: what the filter allows, what each strategy was expected to take, where the time went. */
import { computed } from 'vue'
import type { SearchAnswer, SearchCost } from '../../api/shapes'
import { costText, costWords, count, micros, settingsText, strategyWords } from '../../api/words'

const props = defineProps<{ search: SearchAnswer }>()
const plan = computed(() => props.search.via.plan)
const share = computed(() => (100 * plan.value.allowed) / Math.max(1, plan.value.rows))
const longest = computed(() => Math.max(props.search.timing.search_us, ...plan.value.considered.map((c) => c.expected_us)))
const width = (us: number) => `${Math.max(0.6, (100 * us) / longest.value)}%`
const taken = computed(() => plan.value.strategy)
/** What the index opened or visited on the way. */
const unit = computed(() => (taken.value.startsWith('visit') ? 'cells visited' : 'nodes opened'))
/** Kinds of cost that some strategy has, each with a colour of its own. */
const kinds = computed(() => [...new Set(plan.value.considered.flatMap((c) => c.costs.map((cost) => cost.of)))])
const costUs = (c: SearchCost) => (c.n * c.ns_each) / 1000
const stages = computed(() => {
  const t = props.search.timing
  const known: [string, number][] = [['encode', t.encode_us], ['filter', t.filter_us], ['plan', t.plan_us], ['search', t.search_us], ['fetch', t.fetch_us]]
  const other: [string, number] = ['other', Math.max(0, t.total_us - known.reduce((sum, [, us]) => sum + us, 0))]
  return [...known, other].filter(([, us]) => us > 0)
})
</script>

<template>
  <div class="sheet plan" data-plan>
    <div class="part">
      <h3>Filter</h3>
      <div v-tooltip.bottom="`${count(plan.allowed)} of ${count(plan.rows)}`" class="track"><span class="allowed" :style="{ width: `${Math.max(0.4, share)}%` }" /></div>
      <p>{{ count(plan.allowed) }} of {{ count(plan.rows) }} records can be hits ({{ share < 0.1 ? share.toPrecision(1) : share.toFixed(1) }}%)</p>
    </div>
    <div class="part">
      <h3>Strategies, by what they were expected to take</h3>
      <div v-for="c in plan.considered" :key="c.strategy" class="bar-row" :class="{ taken: c.strategy === taken }">
        <span class="label">{{ strategyWords[c.strategy] }}</span>
        <span v-tooltip.bottom="c.costs.map(costText).join(', ')" class="track stack">
          <span v-for="cost in c.costs" :key="cost.of" :class="`cost ${cost.of}`" :style="{ width: width(costUs(cost)) }" />
        </span>
        <span class="num">{{ micros(c.expected_us) }}</span>
      </div>
      <div class="bar-row">
        <span class="label"><b>taken:</b> {{ strategyWords[taken] }}</span>
        <span class="track"><span :class="search.via.exact ? 'is-exact' : 'is-approx'" :style="{ width: width(search.timing.search_us) }" /></span>
        <b class="num">{{ micros(search.timing.search_us) }}</b>
      </div>
      <p><span v-for="of in kinds" :key="of" class="key"><i :class="`cost ${of}`" />{{ costWords[of] }}</span></p>
      <p v-for="c in plan.considered.filter((c) => c.strategy === taken)" :key="c.strategy" class="soft">Expected of what was taken: {{ c.costs.map(costText).join(', ') }}.</p>
      <p class="soft">
        It took {{ count(search.via.work.distances) }} distances<template v-if="search.via.work.hops">, {{ count(search.via.work.hops) }} {{ unit }}</template><template v-if="search.via.work.blocks">, {{ count(search.via.work.blocks) }} blocks of 32 codes compared</template>.
        <template v-if="plan.widened">The filter leaves less of what is near, so it went on with {{ settingsText(plan.widened) }}. </template>
        <template v-if="search.via.work.repeated">Its hits were far, so it was repeated with wider settings. </template>
        <template v-if="plan.unindexed">{{ count(plan.unindexed) }} records newer than the index. </template>
      </p>
    </div>
    <div class="part">
      <h3>Where the time went: {{ micros(search.timing.total_us) }}</h3>
      <div class="stages">
        <span v-for="([name, us], i) in stages" :key="name" v-tooltip.bottom="`${name} ${micros(us)}`" :class="`stage s${i % 6}`" :style="{ flexGrow: us }" />
      </div>
      <p><span v-for="([name, us], i) in stages" :key="name" class="key"><i :class="`s${i % 6}`" />{{ name }} {{ micros(us) }}</span></p>
    </div>
  </div>
</template>

<style scoped>
.plan { margin-top: 0.6rem; padding: 0.5rem 0.9rem 0.7rem; }
h3 { font-size: 0.93em; font-weight: 600; margin: 0.5rem 0 0.25rem; }
p { margin: 0.2rem 0 0; font-size: 0.92em; }
.track { display: block; height: 10px; background: var(--tint); border-radius: 2px; overflow: hidden; }
.track > span { display: block; height: 100%; }
.allowed { background: var(--p-primary-color); }
.stack { display: flex; opacity: 0.55; }
.taken .stack { opacity: 1; }
.cost.search { background: #7a8f99; } .cost.distance { background: var(--p-primary-color); } .cost.stored { background: var(--approx); }
.cost.checked { background: #b9a7d6; } .cost.compared { background: var(--exact); } .cost.newer { background: var(--line); }
.taken .label { font-weight: 600; }
.is-exact { background: var(--exact); }
.is-approx { background: var(--approx); }
.bar-row { display: grid; grid-template-columns: 20rem minmax(0, 1fr) 5rem; gap: 0.7rem; align-items: center; padding: 1px 0; font-size: 0.93em; }
.stages { display: flex; height: 12px; border-radius: 2px; overflow: hidden; gap: 1px; }
.stage { min-width: 2px; }
.key { margin-right: 1rem; white-space: nowrap; }
.key i { display: inline-block; width: 9px; height: 9px; border-radius: 2px; margin-right: 0.3rem; }
.s0 { background: #7a8f99; } .s1 { background: var(--p-primary-color); } .s2 { background: #b9a7d6; }
.s3 { background: var(--approx); } .s4 { background: var(--exact); } .s5 { background: var(--line); }
</style>
