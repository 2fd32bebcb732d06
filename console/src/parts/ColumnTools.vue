<script setup lang="ts">
/** Changing models without downtime: add a column, fill it, choose it, drop the old one. */
import { ref, shallowRef } from 'vue'
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import Select from 'primevue/select'
import { api, type Refusal } from '../api/client'
import { useJobs } from '../api/jobs'
import { useResource } from '../api/resource'
import type { Collection } from '../api/shapes'
import { count, quoted } from '../api/words'
import EqualCommands from './EqualCommands.vue'
import FailureNote from './FailureNote.vue'

const props = defineProps<{ collection: Collection }>()
const emit = defineEmits<{ changed: [] }>()
const encoders = useResource(() => 0, api.encoders)
const { follow } = useJobs()
const adding = ref(false)
const column = ref('')
const encoder = ref<string | null>(null)
const template = ref('')
const failure = shallowRef<Refusal | null>(null)
const armed = ref('')

async function attempt(work: () => Promise<unknown>) {
  failure.value = null
  try {
    await work()
  } catch (error) {
    failure.value = error as Refusal
  }
  emit('changed')
}
const name = () => props.collection.name
async function fill(column: string) {
  const job = await api.fillColumn(name(), column)
  await follow(job)
}
const add = () => attempt(async () => {
  const input = { name: column.value, encoder: encoder.value ?? undefined, template: template.value || undefined }
  await api.addColumn(name(), input)
  adding.value = false
  emit('changed')
  if (encoder.value && template.value) await fill(column.value)
})
const choose = (column: string) => attempt(() => api.change(name(), { default_column: column }))
function drop(column: string) {
  // Asked twice: the first click arms, the second drops.
  if (armed.value !== column) {
    armed.value = column
    setTimeout(() => (armed.value = ''), 4000)
    return
  }
  void attempt(() => api.dropColumn(name(), column))
}
</script>

<template>
  <div class="tools">
    <p v-if="!collection.columns.length" class="soft none">No vector column yet: records can be loaded, and are found once there is one.</p>
    <template v-if="collection.columns.length > 1">
      <div v-for="v in collection.columns" :key="v.name" class="row">
        <code>{{ v.name }}</code>
        <span v-if="v.name === collection.default_column" class="tag">searches use it</span>
        <template v-else>
          <Button size="small" text label="Make searches use it" :data-choose="v.name" @click="choose(v.name)" />
          <Button size="small" text severity="danger" :label="armed === v.name ? 'Really drop it' : 'Drop'" :data-drop-column="v.name" @click="drop(v.name)" />
        </template>
        <Button v-if="v.encoder && v.template && v.n_vectors < collection.n_records" size="small" text icon="pi pi-bolt" :label="`Encode ${count(collection.n_records - v.n_vectors)} records`" :data-fill="v.name" @click="attempt(() => fill(v.name))" />
      </div>
    </template>
    <Button v-if="!adding" size="small" text icon="pi pi-plus" label="Add a column" data-add-column @click="adding = true" />
    <form v-else class="row" @submit.prevent="add">
      <InputText v-model="column" size="small" class="mono" placeholder="name" aria-label="Column" data-column-name />
      <Select v-model="encoder" :options="encoders.data.value?.map((e) => e.name) ?? []" size="small" placeholder="encoder" aria-label="Encoder" data-column-encoder />
      <InputText v-model="template" size="small" class="mono" placeholder="{note}" aria-label="What the encoder reads" data-column-template />
      <Button type="submit" size="small" label="Add and fill" />
      <Button size="small" text label="Not now" @click="adding = false" />
    </form>
    <FailureNote v-if="failure" :failure="failure" :again="false" />
    <EqualCommands v-if="adding" :zesty="`zesty column add ${quoted(collection.name)} ${quoted(column || 'NAME')} --encoder ${quoted(encoder ?? 'ENCODER')} --template ${quoted(template || '{note}')} --fill`" method="POST" :path="`/api/collections/${encodeURIComponent(collection.name)}/columns`" :body="{ name: column, encoder, template }" />
  </div>
</template>

<style scoped>
.none { margin: 0.2rem 0 0.4rem; }
.tools { margin-top: 0.5rem; display: grid; gap: 0.2rem; justify-items: start; }
</style>
