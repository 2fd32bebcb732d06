<script setup lang="ts">
/** A recipe as text and as connected stages. Whichever is changed, the other follows. */
import { computed, ref, watch } from 'vue'
import Button from 'primevue/button'
import Checkbox from 'primevue/checkbox'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import InputNumber from 'primevue/inputnumber'
import InputText from 'primevue/inputtext'
import Select from 'primevue/select'
import { api } from '../api/client'
import { useQuery } from '../api/query'
import type { RecipeExplained, RecipeForm } from '../api/shapes'
import { bytes, count, seconds } from '../api/words'

type Stage = RecipeExplained['stages'][number]
type Part<P, K extends string> = P extends Record<K, infer V> ? V : never
type Route = RecipeForm['route']
type Store = RecipeForm['store']

const props = defineProps<{ collection: string; column: string }>()
const recipe = defineModel<string>({ required: true })

/** What the stages begin with when they are chosen. */
const ROUTES = {
  scan: 'scan',
  graph: { graph: { links: 16, build: 200, layers: true, inline_codes: false } },
  cells: { cells: { router: 'scan', overlap: false } },
  crossed: { crossed: { left: 32, right: 32 } },
} satisfies Record<string, Route>
const STORES = {
  f32: 'f32', f16: 'f16', int8: 'int8', pq: { pq: { parts: 32, bits: 8 } }, bits: { bits: { planes: 1 } },
} satisfies Record<string, Store>
const kindOf = (part: string | object): string => (typeof part === 'string' ? part : (Object.keys(part)[0] ?? ''))
function part<P extends string | object, K extends string>(of: P, kind: K): Part<P, K> | null {
  return typeof of === 'object' && kind in of ? ((of as Record<string, unknown>)[kind] as Part<P, K>) : null
}

/** What the stages show. Of `auto` it is the recipe that was chosen. */
const form = ref<RecipeForm>({ route: ROUTES.graph, store: 'f32' })
/** What to explain next: the text that was typed, or the stages that were changed. */
const asked = ref<string | RecipeForm>(recipe.value)
const explaining = useQuery(
  () => [asked.value, props.column],
  (signal) => api.explainRecipe(asked.value, props.collection, props.column, signal),
  { rest: 200, keep: true },
)
const explained = explaining.data
/** The text that was written here for changed stages. Any other text was typed. */
let own = ''
watch(recipe, (text) => {
  if (text === own) return
  own = ''
  asked.value = text
})
watch(explained, (now) => {
  if (!now) return
  const ofStages = typeof asked.value !== 'string'
  form.value = structuredClone(now.form) as unknown as RecipeForm
  if (ofStages) recipe.value = own = now.recipe
})
function compose() {
  asked.value = JSON.parse(JSON.stringify(form.value)) as RecipeForm
}

const route = computed({
  get: () => kindOf(form.value.route),
  set: (kind) => {
    form.value.route = structuredClone(ROUTES[kind as keyof typeof ROUTES])
    compose()
  },
})
const store = computed({
  get: () => kindOf(form.value.store),
  set: (kind) => {
    form.value.store = structuredClone(STORES[kind as keyof typeof STORES])
    // Only `bits` has these options.
    if (kind !== 'bits' && graph.value) graph.value.inline_codes = false
    if (kind !== 'bits' && cells.value) cells.value.overlap = false
    compose()
  },
})
const finish = computed({
  get: () => form.value.rescore ?? 'none',
  set: (kind) => {
    form.value.rescore = kind === 'none' ? undefined : kind
    compose()
  },
})
const graph = computed(() => part(form.value.route, 'graph'))
const cells = computed(() => part(form.value.route, 'cells'))
const crossed = computed(() => part(form.value.route, 'crossed'))
const product = computed(() => part(form.value.store, 'pq'))
const signs = computed(() => part(form.value.store, 'bits'))
const prepare = computed(() => form.value.prepare ?? {})
function prepared(change: RecipeForm['prepare']) {
  form.value.prepare = { ...form.value.prepare, ...change }
  compose()
}
const isAuto = computed(() => /^\s*auto/.test(recipe.value))
</script>

<template>
  <div class="row">
    <InputText v-model="recipe" size="small" class="mono grow" aria-label="Recipe" :invalid="!!explaining.failure.value" spellcheck="false" />
    <Button v-if="!isAuto" type="button" size="small" text label="Choose for me" @click="recipe = 'auto'" />
    <Button v-else-if="explained" type="button" size="small" text label="Take this one" @click="recipe = explained.recipe" />
  </div>
  <div v-if="explaining.failure.value" class="wrong" role="alert">{{ explaining.failure.value.message }}</div>
  <div v-if="explained?.why" class="soft why">Chosen {{ explained.why }}.</div>

  <div class="stages" data-stages>
    <section class="stage">
      <h3>Prepare</h3>
      <label class="row"><Checkbox :model-value="!!prepare.center" binary size="small" input-id="p-center" aria-label="Center" @update:model-value="prepared({ center: $event })" /> center</label>
      <label class="row"><Checkbox :model-value="prepare.reduce !== undefined" binary size="small" aria-label="Reduce the dimensions" @update:model-value="prepared({ reduce: $event ? Math.max(1, Math.round((explained?.dimensions ?? 96) / 2)) : undefined })" /> reduce to
        <InputNumber v-if="prepare.reduce !== undefined" :model-value="prepare.reduce" :min="1" :max="16384" size="small" aria-label="Dimensions to reduce to" input-class="narrow num" @update:model-value="prepared({ reduce: $event ?? undefined })" /></label>
      <label v-if="product" class="row"><Checkbox :model-value="!!prepare.rotate" binary size="small" aria-label="Rotate" @update:model-value="prepared({ rotate: $event })" /> rotate</label>
    </section>
    <span class="joint" aria-hidden="true" />
    <section class="stage">
      <h3>Route</h3>
      <Select v-model="route" :options="Object.keys(ROUTES)" size="small" aria-label="Route" />
      <template v-if="graph">
        <label class="row">links <InputNumber v-model="graph.links" :min="2" :max="256" size="small" aria-label="Links" input-class="narrow num" @update:model-value="compose" /></label>
        <label class="row">build <InputNumber v-model="graph.build" :min="2" :max="4096" size="small" aria-label="Build beam" input-class="narrow num" @update:model-value="compose" /></label>
        <label class="row"><Checkbox v-model="graph.layers" binary size="small" aria-label="Layers" @update:model-value="compose" /> layers</label>
        <label v-if="signs" class="row"><Checkbox v-model="graph.inline_codes" binary size="small" aria-label="Inline codes" @update:model-value="compose" /> inline codes</label>
      </template>
      <template v-if="cells">
        <label class="row">cells <InputNumber v-model="cells.count" :min="1" :max="1048576" size="small" aria-label="Cells" input-class="narrow num" :placeholder="cells.overlap ? '4 √ rows' : '√ rows'" @update:model-value="compose" /></label>
        <label class="row">router <Select v-model="cells.router" :options="['scan', 'graph']" size="small" aria-label="Router" @update:model-value="compose" /></label>
        <label v-if="signs" class="row"><Checkbox v-model="cells.overlap" binary size="small" aria-label="Overlap" @update:model-value="compose" /> overlap</label>
      </template>
      <div v-if="crossed" class="row"><InputNumber v-model="crossed.left" :min="2" :max="4096" size="small" aria-label="Left cells" input-class="narrow num" @update:model-value="compose" /> × <InputNumber v-model="crossed.right" :min="2" :max="4096" size="small" aria-label="Right cells" input-class="narrow num" @update:model-value="compose" /></div>
    </section>
    <span class="joint" aria-hidden="true" />
    <section class="stage">
      <h3>Store</h3>
      <Select v-model="store" :options="Object.keys(STORES)" size="small" aria-label="Store" />
      <template v-if="product">
        <label class="row">parts <InputNumber v-model="product.parts" :min="1" :max="16384" size="small" aria-label="Parts" input-class="narrow num" @update:model-value="compose" /></label>
        <label class="row">bits <Select v-model="product.bits" :options="[8, 4]" size="small" aria-label="Bits of a part" @update:model-value="compose" /></label>
      </template>
      <label v-if="signs" class="row">bits a dimension <Select v-model="signs.planes" :options="[1, 2, 3, 4]" size="small" aria-label="Bits a dimension" @update:model-value="compose" /></label>
    </section>
    <span class="joint" aria-hidden="true" />
    <section class="stage">
      <h3>Finish</h3>
      <Select v-model="finish" :options="['none', 'f32', 'f16', 'int8']" size="small" aria-label="Rescore" />
      <span class="soft small">{{ finish === 'none' ? 'the candidates are the answer' : `the best candidates are re-ranked with ${finish}` }}</span>
    </section>
  </div>

  <template v-if="explained">
    <DataTable :value="explained.stages" data-key="stage" size="small" data-explained>
      <Column header="Stage" class="nowrap"><template #body="{ data: s }: { data: Stage }"><code>{{ s.stage }}</code></template></Column>
      <Column header="What it does" field="what" />
      <Column header="Bytes a row" class="num"><template #body="{ data: s }: { data: Stage }">{{ s.bytes_per_row ? count(s.bytes_per_row) : '' }}</template></Column>
      <Column header="and once" class="num"><template #body="{ data: s }: { data: Stage }">{{ s.fixed_bytes ? bytes(s.fixed_bytes) : '' }}</template></Column>
    </DataTable>
    <div class="row facts">
      <span>expected for {{ count(explained.rows) }} rows × {{ explained.dimensions }}: <b data-expected>{{ bytes(explained.expected.memory_bytes) }}</b> in memory, <b>{{ bytes(explained.expected.file_bytes) }}</b> on disk, about <b>{{ seconds(explained.expected.build_seconds) }}</b> of processor time</span>
      <span v-if="explained.learns_from" class="soft">learns from {{ count(explained.learns_from) }} rows</span>
    </div>
    <div v-for="n in explained.notices" :key="n" class="notice"><i class="pi pi-info-circle" aria-hidden="true" /> {{ n }}</div>
  </template>
</template>

<style scoped>
.grow { flex: 1; min-width: 14rem; }
.why { margin-top: 0.4rem; }
.wrong { color: var(--wrong); margin-top: 0.4rem; white-space: pre-wrap; }
.stages { display: flex; align-items: stretch; margin: 0.8rem 0; flex-wrap: wrap; row-gap: 0.6rem; }
.stage { border: 1px solid var(--line); border-radius: 5px; padding: 0.5rem 0.7rem; background: var(--paper); display: flex; flex-direction: column; gap: 0.35rem; align-items: start; min-width: 9.5rem; }
.stage h3 { margin: 0; font-size: 0.88em; font-weight: 600; color: var(--soft); }
.stage .row { flex-wrap: nowrap; }
.joint { align-self: center; width: 1.6rem; border-top: 2px solid var(--line); }
.facts { margin-top: 0.5rem; }
.notice { margin-top: 0.35rem; color: var(--approx); }
:deep(.narrow) { width: 5rem; }
</style>
