<script setup lang="ts">
/** Conditions to choose from. They and the text of the filter stay in step. */
import { computed, ref, watch } from 'vue'
import AutoComplete from 'primevue/autocomplete'
import Button from 'primevue/button'
import Select from 'primevue/select'
import { api } from '../api/client'
import { builtText, fromJson, opsOf, type Built, type Condition } from '../api/conditions'
import { useQuery } from '../api/query'

const text = defineModel<string>({ required: true })
const props = defineProps<{ collection: string }>()
const built = ref<Built | null>({ join: 'and', conditions: [] })
/** The text that the conditions stand for. Any other text was typed. */
let own = ''

const counted = useQuery(() => props.collection, (signal) => api.fields(props.collection, { limit: 200 }, signal))
const fields = computed(() => counted.data.value?.fields.filter((f) => !f.stored_only) ?? [])
// While the text is wrong, the conditions stay; FilterBox shows the error.
const reading = useQuery(
  () => [props.collection, text.value],
  (signal) => (text.value.trim() && text.value !== own ? api.readFilter(props.collection, text.value, signal) : Promise.resolve(null)),
  { rest: 250 },
)
watch([reading.data, fields], ([read]) => {
  if (!fields.value.length) return
  if (read && text.value !== own) {
    built.value = fromJson(read.json, fields.value)
    own = text.value
  }
})
watch(text, (now) => {
  if (now.trim() || now === own) return
  built.value = { join: 'and', conditions: [] }
  own = now
})
function write() {
  if (!built.value) return
  own = builtText(built.value, fields.value)
  text.value = own
}
const names = computed(() => fields.value.map((f) => f.name))
const about = (c: Condition) => fields.value.find((f) => f.name === c.field)
const ops = (c: Condition) => opsOf(about(c)?.type ?? 'string')
const takes = (c: Condition) => ops(c).find((o) => o.value === c.op)?.takes ?? 1

function add() {
  const first = fields.value[0]
  if (!first) return
  built.value ??= { join: 'and', conditions: [] }
  built.value.conditions.push({ field: first.name, op: opsOf(first.type)[0]?.value ?? '=', values: [] })
}
function changed(c: Condition) {
  if (!ops(c).some((o) => o.value === c.op)) c.op = ops(c)[0]?.value ?? '='
  c.values = []
  write()
}
const suggestions = ref<string[]>([])
function suggest(c: Condition, typed: string) {
  const known = about(c)?.values ?? []
  const found = known.filter((v) => String(v.value).toLowerCase().includes(typed.toLowerCase()))
  suggestions.value = found.slice(0, 30).map((v) => String(v.value))
}
// The button beside the box has no label of its own.
const opensValues = { dropdown: { 'aria-label': 'Show the values of this field' } }
const countOf = (c: Condition, value: string) => about(c)?.values.find((v) => String(v.value) === value)?.count
function set(c: Condition, i: number, value: unknown) {
  c.values[i] = typeof value === 'string' ? value : ''
  write()
}
</script>

<template>
  <div class="builder" data-filter-builder>
    <p v-if="!built" class="soft">The builder cannot show this filter. The text applies as it is.</p>
    <template v-else>
      <div v-for="(c, i) in built.conditions" :key="i" class="row condition" data-condition>
        <Select v-if="i === 1" v-model="built.join" :options="['and', 'or']" size="small" aria-label="Joined by" class="join" @change="write" />
        <span v-else class="soft join">{{ i === 0 ? 'where' : built.join }}</span>
        <Select v-model="c.field" :options="names" size="small" filter aria-label="Field" @change="changed(c)" />
        <Select v-model="c.op" :options="ops(c)" option-label="label" option-value="value" size="small" aria-label="Operator" @change="write" />
        <AutoComplete v-if="takes(c) < 0" v-model="c.values" multiple dropdown :typeahead="true" :suggestions="suggestions" size="small" aria-label="Values" :pt="opensValues" class="value many" @complete="suggest(c, $event.query)" @update:model-value="write">
          <template #option="{ option }"><span>{{ option }}</span><span class="soft num n">{{ countOf(c, option) }}</span></template>
        </AutoComplete>
        <template v-else>
          <AutoComplete v-for="n in takes(c)" :key="n" :model-value="c.values[n - 1] ?? ''" dropdown :suggestions="suggestions" size="small" :aria-label="n === 1 ? 'Value' : 'Upper value'" :pt="opensValues" class="value" :placeholder="about(c)?.type === 'date' ? '1931-10-04' : ''" @complete="suggest(c, $event.query)" @update:model-value="set(c, n - 1, $event)">
            <template #option="{ option }"><span>{{ option }}</span><span class="soft num n">{{ countOf(c, option) }}</span></template>
          </AutoComplete>
        </template>
        <Button icon="pi pi-times" size="small" text severity="secondary" aria-label="Remove condition" @click="built.conditions.splice(i, 1); write()" />
      </div>
      <Button label="Add a condition" icon="pi pi-plus" size="small" text data-add-condition @click="add" />
    </template>
  </div>
</template>

<style scoped>
.builder { margin-top: 0.4rem; }
.condition { margin-bottom: 0.35rem; gap: 0.45rem; }
.join { width: 5.6rem; }
span.join { padding-left: 0.6rem; }
.value { width: 12rem; }
.many { width: 22rem; }
.value :deep(input) { width: 100%; }
.n { margin-left: auto; padding-left: 1rem; }
p { margin: 0.2rem 0; }
</style>
