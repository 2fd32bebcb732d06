<script setup lang="ts">
/** Hits with score bars. The bars span the scores that are shown, so that differences are visible. */
import { computed } from 'vue'
import type { Hit } from '../../api/shapes'
import RecordText from '../RecordText.vue'

const props = defineProps<{ hits: Hit[]; marked: Set<string>; markTitle: string; exact?: boolean; cards?: boolean; from?: number }>()
defineEmits<{ example: [key: string] }>()
const low = computed(() => {
  const scores = props.hits.map((h) => h.score)
  const [min, max] = [Math.min(...scores), Math.max(...scores)]
  return min - (max - min) * 0.25 - 1e-6
})
const width = (score: number) => {
  const max = props.hits[0]?.score ?? 1
  return `${Math.max(2, (100 * (score - low.value)) / (max - low.value || 1))}%`
}
</script>

<template>
  <ol class="hits" :class="cards ? 'cards' : 'sheet'">
    <li v-for="(hit, i) in hits" :key="hit.key" :class="{ marked: marked.has(hit.key) }">
      <span class="num soft">{{ (from ?? 0) + i + 1 }}</span>
      <span v-tooltip.bottom="`score ${hit.score}, distance ${hit.distance}`" class="score">
        <b class="num">{{ hit.score.toFixed(4) }}</b>
        <span class="track"><span class="bar" :class="exact ? 'is-exact' : 'is-approx'" :style="{ width: width(hit.score) }" /></span>
      </span>
      <div class="what">
        <div class="head">
          <span v-if="marked.has(hit.key)" v-tooltip.bottom="markTitle" class="hollow" role="img" tabindex="0" :aria-label="markTitle">○</span>
          <code>{{ hit.key }}</code>
          <button type="button" class="like" :aria-label="`More like ${hit.key}`" @click="$emit('example', hit.key)">more like this</button>
        </div>
        <RecordText :fields="hit.fields" short />
        <div v-for="(other, field) in hit.follow" :key="field" class="other" data-followed>
          <template v-if="other"><span class="soft">{{ field }}:</span> <code>{{ other.key }}</code> <span class="soft">of {{ other.collection }}</span><RecordText :fields="other.fields" short /></template>
          <span v-else class="soft">{{ field }}: no such record</span>
        </div>
      </div>
    </li>
    <li v-if="!hits.length" class="soft none">Nothing found.</li>
  </ol>
</template>

<style scoped>
.hits { list-style: none; margin: 0; padding: 0.2rem 0.9rem; }
li { display: grid; grid-template-columns: 1.4rem 4.6rem minmax(0, 1fr); gap: 0.7rem; padding: 0.4rem 0; border-bottom: 1px solid var(--line); }
li:last-child { border: 0; }
li.none { display: block; }
.score b { font-weight: 600; display: block; }
.track { display: block; height: 5px; background: var(--line); border-radius: 3px; overflow: hidden; margin-top: 3px; }
.bar { display: block; height: 100%; }
.is-exact { background: var(--exact); }
.is-approx { background: var(--approx); }
.head { display: flex; gap: 0.5rem; align-items: baseline; }
.hollow { color: var(--wrong); font-weight: 700; }
.other { margin: 0.3rem 0 0.1rem; padding-left: 0.6rem; border-left: 2px solid var(--line); font-size: 0.95em; }
.marked .what { border-left: 2px dashed var(--wrong); padding-left: 0.5rem; }
.like { border: 0; background: none; color: var(--p-primary-color); cursor: pointer; padding: 0; font: inherit; font-size: 0.9em; margin-left: auto; }
.like:hover { text-decoration: underline; }
.hits.cards { padding: 0; display: grid; grid-template-columns: repeat(auto-fill, minmax(19rem, 1fr)); gap: 0.7rem; }
.cards li { display: block; position: relative; background: var(--sheet); border: 1px solid var(--line); border-radius: 5px; padding: 0.6rem 0.8rem; }
.cards li:last-child { border: 1px solid var(--line); }
.cards li > .num { position: absolute; right: 0.8rem; }
.cards .score b { text-align: left; }
.cards .score { display: block; width: 9rem; margin-bottom: 0.4rem; }
</style>
