<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import Button from 'primevue/button'
import { api, pathOf } from '../api/client'
import { and, equals } from '../api/filters'
import { useQuery } from '../api/query'
import type { Field } from '../api/shapes'
import { bytes, count, plain, quoted } from '../api/words'
import EqualCommands from '../parts/EqualCommands.vue'
import FailureNote from '../parts/FailureNote.vue'
import { useCollection } from '../parts/collection'
import FilterBox from '../parts/FilterBox.vue'
import { useUrlQuery } from '../parts/url'

const { collection } = useCollection()
const name = computed(() => collection.value.name)
const { word } = useUrlQuery()
const router = useRouter()
const asked = computed(() => word('filter'))
const filter = ref(asked.value)
watch(asked, (now) => (filter.value = now))
const fields = useQuery(() => [name.value, asked.value], (signal) => api.fields(name.value, { filter: asked.value, limit: 8 }, signal), { keep: true })
const go = (text: string) => router.push({ query: text.trim() ? { filter: text } : {} })
const path = computed(() => `${pathOf(name.value)}/fields${asked.value ? `?filter=${encodeURIComponent(asked.value)}` : ''}`)
/** Frequent values say nothing where hardly any value repeats. */
const listed = (f: Field) => (f.values[0] && f.values[0].count > 1 ? f.values : [])
const share = (n: number, f: Field) => `${Math.max(1, (100 * n) / Math.max(1, f.n_present))}%`
const height = (n: number, all: number[]) => `${n ? Math.max(4, (100 * n) / Math.max(...all)) : 0}%`
</script>

<template>
  <h1>Fields</h1>
  <p class="soft lead">The values of each field, to read before you write a filter. Click a value to narrow the counts.</p>
  <form class="sheet row" @submit.prevent="go(filter)">
    <FilterBox v-model="filter" :collection="name" :failure="fields.failure.value" />
    <Button type="submit" size="small" label="Count" :loading="fields.loading.value" />
    <RouterLink :to="{ path: `/c/${encodeURIComponent(name)}/records`, query: asked ? { filter: asked } : {} }"><Button type="button" size="small" text label="Show the records" tabindex="-1" /></RouterLink>
  </form>
  <FailureNote v-if="fields.failure.value && fields.failure.value.word !== 'invalid-filter'" :failure="fields.failure.value" @retry="fields.refresh" />
  <template v-if="fields.data.value">
    <p class="soft" data-counted>{{ count(fields.data.value.n_records) }} records counted</p>
    <div class="grid" data-fields>
      <section v-for="f in fields.data.value.fields" :key="f.name" class="sheet card">
        <div class="row spread"><strong class="mono">{{ f.name }}</strong><span><span v-if="f.stored_only" v-tooltip.bottom="'Only the database keeps it. A filter can test it with IS NULL and nothing else.'" class="tag" tabindex="0">stored only</span> <span class="tag">{{ f.type }} · {{ bytes(f.n_bytes) }}</span></span></div>
        <div class="soft small">{{ f.description }}</div>
        <div class="small numbers"><span>{{ count(f.n_present) }} present</span><span :class="{ soft: !f.n_missing }">{{ count(f.n_missing) }} missing</span><span v-if="!f.stored_only">{{ count(f.n_distinct) }} distinct</span></div>
        <div v-if="f.refers_to" class="small">refers to <RouterLink :to="`/c/${encodeURIComponent(f.refers_to)}`">{{ f.refers_to }}</RouterLink><span v-if="f.n_lost_references" class="wrong">, {{ count(f.n_lost_references) }} to records that do not exist</span></div>
        <div v-if="f.histogram" class="histogram">
          <div class="bars"><span v-for="(n, i) in f.histogram.counts" :key="i" v-tooltip.bottom="count(n)" :style="{ height: height(n, f.histogram.counts) }" /></div>
          <div class="row spread soft small"><span>{{ f.histogram.low }}</span><span>{{ f.histogram.high }}</span></div>
        </div>
        <ul v-if="!f.histogram || f.n_distinct <= 8">
          <li v-for="v in listed(f)" :key="String(v.value)">
            <button v-tooltip.bottom="equals(f.name, f.type, v.value)" type="button" @click="go(and(asked, equals(f.name, f.type, v.value)))">{{ plain(v.value) }}</button>
            <span class="bar"><span :style="{ width: share(v.count, f) }" /></span><span class="num small">{{ count(v.count) }}</span>
          </li>
        </ul>
        <div v-if="f.n_distinct > f.values.length && listed(f).length && !f.histogram" class="soft small">and {{ count(f.n_distinct - f.values.length) }} more</div>
      </section>
    </div>
    <EqualCommands :zesty="`zesty fields ${quoted(name)}${asked ? ` --filter ${quoted(asked)}` : ''}`" method="GET" :path="path" />
  </template>
</template>

<style scoped>
.lead { margin: 0.2rem 0 0.8rem; }
.grid { display: grid; grid-template-columns: repeat(auto-fill, minmax(19rem, 1fr)); gap: 0.8rem; margin-bottom: 0.6rem; align-items: start; }
.card { padding: 0.6rem 0.8rem; }
.wrong { color: var(--wrong); }
.numbers { display: flex; gap: 0.9rem; margin: 0.2rem 0 0.3rem; }
.bars { display: flex; align-items: end; gap: 1px; height: 3rem; }
.bars span { flex: 1; background: var(--p-primary-color); }
ul { list-style: none; margin: 0.3rem 0 0; padding: 0; }
li { display: grid; grid-template-columns: minmax(0, 1fr) 4.5rem 3.6rem; gap: 0.5rem; align-items: center; padding: 1px 0; }
li button { border: 0; background: none; padding: 0; font: inherit; color: var(--p-primary-color); cursor: pointer; text-align: left; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
li button:hover { text-decoration: underline; }
.bar { background: var(--line); height: 6px; border-radius: 3px; overflow: hidden; }
.bar span { display: block; height: 100%; background: var(--p-primary-color); }
</style>
