<script setup lang="ts">
/** Changing models without downtime: add a column, backfill it, make searches use it, drop the old one. */
import { reactive, ref } from 'vue'
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import Select from 'primevue/select'
import { useConfirm } from 'primevue/useconfirm'
import { useAction } from '../api/action'
import { api, pathOf } from '../api/client'
import { useJobs } from '../api/jobs'
import { useQuery } from '../api/query'
import { count, quoted } from '../api/words'
import { useCollection } from './collection'
import EqualCommands from './EqualCommands.vue'
import FailureNote from './FailureNote.vue'

const { collection, refresh } = useCollection()
const encoders = useQuery(() => 0, api.encoders)
const { follow } = useJobs()
const confirm = useConfirm()
const adding = ref(false)
const made = reactive({ name: '', encoder: null as string | null, template: '' })
const name = () => collection.value.name

const backfill = useAction(async (column: string) => {
  await follow(await api.backfill(name(), column))
  await refresh()
})
const add = useAction(async () => {
  const { name: column, encoder, template } = made
  await api.addColumn(name(), { name: column, encoder, template: template || null })
  adding.value = false
  await refresh()
  if (encoder && template) await backfill.run(column)
})
const choose = useAction(async (column: string) => {
  await api.change(name(), { default_column: column })
  await refresh()
})
const drop = useAction(async (column: string) => {
  await api.dropColumn(name(), column)
  await refresh()
})
function askToDrop(event: Event, column: string) {
  confirm.require({
    target: event.currentTarget as HTMLElement,
    message: `Column "${column}", its vectors and its indexes go. The records stay.`,
    icon: 'pi pi-exclamation-triangle',
    acceptProps: { label: 'Really drop it', severity: 'danger', size: 'small' },
    rejectProps: { label: 'Keep it', severity: 'secondary', text: true, size: 'small' },
    accept: () => void drop.run(column),
  })
}
const failures = [add.failure, backfill.failure, choose.failure, drop.failure]
</script>

<template>
  <div class="tools">
    <p v-if="!collection.columns.length" class="soft none">No vector column yet. Records can be loaded now; searches need a column.</p>
    <template v-if="collection.columns.length > 1">
      <div v-for="v in collection.columns" :key="v.name" class="row">
        <code>{{ v.name }}</code>
        <span v-if="v.name === collection.default_column" class="tag">searches use it</span>
        <template v-else>
          <Button size="small" text label="Make searches use it" :data-choose="v.name" @click="choose.run(v.name)" />
          <Button size="small" text severity="danger" label="Drop" :aria-label="`Drop column ${v.name}`" :data-drop-column="v.name" @click="askToDrop($event, v.name)" />
        </template>
        <Button v-if="v.encoder && v.template && v.n_vectors < collection.n_records" size="small" text icon="pi pi-bolt" :label="`Encode ${count(collection.n_records - v.n_vectors)} records`" :data-backfill="v.name" :loading="backfill.busy.value" @click="backfill.run(v.name)" />
      </div>
    </template>
    <Button v-if="!adding" size="small" text icon="pi pi-plus" label="Add a column" data-add-column @click="adding = true" />
    <form v-else class="row" @submit.prevent="add.run()">
      <InputText v-model="made.name" size="small" class="mono" placeholder="name" aria-label="Name of the column" data-column-name />
      <Select v-model="made.encoder" :options="encoders.data.value?.map((e) => e.name) ?? []" size="small" placeholder="encoder" aria-label="Encoder" data-column-encoder />
      <InputText v-model="made.template" size="small" class="mono" placeholder="{note}" aria-label="What the encoder reads" data-column-template />
      <Button type="submit" size="small" label="Add and backfill" :loading="add.busy.value" />
      <Button type="button" size="small" text label="Not now" @click="adding = false" />
    </form>
    <FailureNote v-if="encoders.failure.value" :failure="encoders.failure.value" @retry="encoders.refresh" />
    <template v-for="(failure, i) in failures" :key="i"><FailureNote v-if="failure.value" :failure="failure.value" :again="false" /></template>
    <EqualCommands v-if="adding" :zesty="`zesty column add ${quoted(collection.name)} ${quoted(made.name || 'NAME')} --encoder ${quoted(made.encoder ?? 'ENCODER')} --template ${quoted(made.template || '{note}')} --backfill`" method="POST" :path="`${pathOf(collection.name)}/columns`" :body="made" />
  </div>
</template>

<style scoped>
.tools { margin-top: 0.5rem; display: grid; gap: 0.2rem; justify-items: start; }
</style>
