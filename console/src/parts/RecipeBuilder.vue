<script setup lang="ts">
/** A recipe as connected stages. The text and the stages are the same thing: whichever is changed, the other follows. */
import { computed, onUnmounted, ref, shallowRef, watch } from 'vue'
import Button from 'primevue/button'
import Checkbox from 'primevue/checkbox'
import InputNumber from 'primevue/inputnumber'
import InputText from 'primevue/inputtext'
import Select from 'primevue/select'
import { api, type Refusal } from '../api/client'
import type { Explained, RecipeForm } from '../api/shapes'
import { bytes, count, seconds } from '../api/words'

const props = defineProps<{ collection: string; column: string }>()
const recipe = defineModel<string>({ required: true })
const explained = shallowRef<Explained | null>(null)
const refused = shallowRef<Refusal | null>(null)

// What the stages show; never `auto`, but what it chose.
const form = ref<RecipeForm>({ route: { graph: { links: 16, build: 200, layers: true, beside: false } }, store: 'f32' })
const kindOf = (part: string | object) => (typeof part === 'string' ? part : Object.keys(part)[0])
const of = <T,>(part: unknown, kind: string) => (part as Record<string, T>)[kind]
const routes = { scan: 'scan', graph: { graph: { links: 16, build: 200, layers: true, beside: false } }, cells: { cells: { router: 'scan', spill: false } }, crossed: { crossed: { left: 32, right: 32 } } } as const
const stores = { f32: 'f32', f16: 'f16', int8: 'int8', pq: { pq: { parts: 32, bits: 8 } }, bits: { bits: { planes: 1 } } } as const
const route = computed({ get: () => kindOf(form.value.route), set: (k) => { form.value.route = structuredClone(routes[k as keyof typeof routes]) as RecipeForm['route']; compose() } })
const store = computed({ get: () => kindOf(form.value.store), set: (k) => {
  form.value.store = structuredClone(stores[k as keyof typeof stores]) as RecipeForm['store']
  // What only bits can do goes with them.
  if (k !== 'bits' && graph.value) graph.value.beside = false
  if (k !== 'bits' && cells.value) cells.value.spill = false
  compose()
} })
const graph = computed(() => of<{ links: number; build: number; layers: boolean; beside: boolean }>(form.value.route, 'graph'))
const cells = computed(() => of<{ count?: number; router: 'scan' | 'graph'; spill: boolean }>(form.value.route, 'cells'))
const crossed = computed(() => of<{ left: number; right: number }>(form.value.route, 'crossed'))
const product = computed(() => of<{ parts: number; bits: number }>(form.value.store, 'pq'))
const signs = computed(() => of<{ planes: number }>(form.value.store, 'bits'))
const prepare = computed(() => form.value.prepare ?? {})
function prepared(change: RecipeForm['prepare']) {
  form.value.prepare = { ...form.value.prepare, ...change }
  compose()
}
const finish = computed({ get: () => form.value.rescore ?? 'none', set: (k) => { form.value.rescore = k === 'none' ? undefined : k; compose() } })

let asking: AbortController | null = null
async function ask(what: string | RecipeForm) {
  asking?.abort()
  asking = new AbortController()
  try {
    const answer = await api.check(what, props.collection, props.column, asking.signal)
    explained.value = answer
    refused.value = null
    form.value = structuredClone(answer.form)
    if (typeof what !== 'string') recipe.value = answer.recipe
  } catch (error) {
    if ((error as Error).name !== 'AbortError') refused.value = error as Refusal
  }
}
const compose = () => void ask(JSON.parse(JSON.stringify(form.value)))
let pause = 0
watch([recipe, () => props.column], ([text], [before]) => {
  if (text === explained.value?.recipe && before !== undefined && text !== before) return
  clearTimeout(pause)
  pause = window.setTimeout(() => void ask(text), before === undefined ? 0 : 250)
}, { immediate: true })
onUnmounted(() => { clearTimeout(pause); asking?.abort() })
const isAuto = computed(() => /^\s*auto/.test(recipe.value))
defineExpose({ explained })
</script>

<template>
  <div class="row">
    <InputText v-model="recipe" size="small" class="mono grow" aria-label="Recipe" :invalid="!!refused" spellcheck="false" />
    <Button v-if="!isAuto" size="small" text label="Choose for me" @click="recipe = 'auto'" />
    <Button v-else-if="explained" size="small" text label="Take this one" @click="recipe = explained.recipe" />
  </div>
  <div v-if="refused" class="wrong" role="alert">{{ refused.message }}</div>
  <div v-if="explained?.why" class="soft why">Chosen {{ explained.why }}.</div>

  <div class="stages" data-stages>
    <section class="stage">
      <h3>Prepare</h3>
      <label class="row"><Checkbox :model-value="!!prepare.center" binary size="small" input-id="p-center" @update:model-value="prepared({ center: $event })" /> center</label>
      <label class="row"><Checkbox :model-value="prepare.reduce !== undefined" binary size="small" @update:model-value="prepared({ reduce: $event ? Math.max(1, Math.round((explained?.dimensions ?? 96) / 2)) : undefined })" /> reduce to
        <InputNumber v-if="prepare.reduce !== undefined" :model-value="prepare.reduce" :min="1" :max="16384" size="small" input-class="narrow num" @update:model-value="prepared({ reduce: $event })" /></label>
      <label v-if="product" class="row"><Checkbox :model-value="!!prepare.rotate" binary size="small" @update:model-value="prepared({ rotate: $event })" /> rotate</label>
    </section>
    <span class="joint" aria-hidden="true" />
    <section class="stage">
      <h3>Route</h3>
      <Select v-model="route" :options="Object.keys(routes)" size="small" aria-label="Route" />
      <template v-if="graph">
        <label class="row">links <InputNumber v-model="graph.links" :min="2" :max="256" size="small" input-class="narrow num" @update:model-value="compose" /></label>
        <label class="row">build <InputNumber v-model="graph.build" :min="2" :max="4096" size="small" input-class="narrow num" @update:model-value="compose" /></label>
        <label class="row"><Checkbox v-model="graph.layers" binary size="small" @update:model-value="compose" /> layers</label>
        <label v-if="signs" class="row"><Checkbox v-model="graph.beside" binary size="small" @update:model-value="compose" /> codes beside links</label>
      </template>
      <template v-if="cells">
        <label class="row">cells <InputNumber v-model="cells.count" :min="1" :max="1048576" size="small" input-class="narrow num" :placeholder="cells.spill ? '4 √ rows' : '√ rows'" @update:model-value="compose" /></label>
        <label class="row">router <Select v-model="cells.router" :options="['scan', 'graph']" size="small" @update:model-value="compose" /></label>
        <label v-if="signs" class="row"><Checkbox v-model="cells.spill" binary size="small" @update:model-value="compose" /> codes in several cells</label>
      </template>
      <div v-if="crossed" class="row"><InputNumber v-model="crossed.left" :min="2" :max="4096" size="small" input-class="narrow num" @update:model-value="compose" /> × <InputNumber v-model="crossed.right" :min="2" :max="4096" size="small" input-class="narrow num" @update:model-value="compose" /></div>
    </section>
    <span class="joint" aria-hidden="true" />
    <section class="stage">
      <h3>Store</h3>
      <Select v-model="store" :options="Object.keys(stores)" size="small" aria-label="Store" />
      <template v-if="product">
        <label class="row">parts <InputNumber v-model="product.parts" :min="1" :max="16384" size="small" input-class="narrow num" @update:model-value="compose" /></label>
        <label class="row">bits <Select v-model="product.bits" :options="[8, 4]" size="small" @update:model-value="compose" /></label>
      </template>
      <label v-if="signs" class="row">bits a dimension <Select v-model="signs.planes" :options="[1, 2, 3, 4]" size="small" @update:model-value="compose" /></label>
    </section>
    <span class="joint" aria-hidden="true" />
    <section class="stage">
      <h3>Finish</h3>
      <Select v-model="finish" :options="['none', 'f32', 'f16', 'int8']" size="small" aria-label="Rescore" />
      <span class="soft small">{{ finish === 'none' ? 'candidates are the answer' : `candidates are ranked anew with ${finish}` }}</span>
    </section>
  </div>

  <template v-if="explained">
    <table class="plain" data-explained>
      <thead><tr><th>Stage</th><th>What it does</th><th class="num">Bytes a row</th><th class="num">and once</th></tr></thead>
      <tbody>
        <tr v-for="s in explained.stages" :key="s.stage"><td><code class="nowrap">{{ s.stage }}</code></td><td>{{ s.what }}</td><td class="num">{{ s.bytes_per_row ? count(s.bytes_per_row) : '' }}</td><td class="num">{{ s.fixed_bytes ? bytes(s.fixed_bytes) : '' }}</td></tr>
      </tbody>
    </table>
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
.small { font-size: 0.88em; }
.facts { margin-top: 0.5rem; }
.notice { margin-top: 0.35rem; color: var(--approx); }
.nowrap { white-space: nowrap; }
:deep(.narrow) { width: 5rem; }
</style>
