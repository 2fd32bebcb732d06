<script setup lang="ts">
import { computed, ref } from 'vue'
import Button from 'primevue/button'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import InputText from 'primevue/inputtext'
import Select from 'primevue/select'
import { useConfirm } from 'primevue/useconfirm'
import { useAction } from '../api/action'
import { api, pathOf } from '../api/client'
import { useJobs } from '../api/jobs'
import { useQuery } from '../api/query'
import type { Index } from '../api/shapes'
import { bytes, count, micros, quoted, seconds, settingsText } from '../api/words'
import { useCollection } from '../parts/collection'
import EqualCommands from '../parts/EqualCommands.vue'
import FailureNote from '../parts/FailureNote.vue'
import QueryState from '../parts/QueryState.vue'
import RecipeBuilder from '../parts/RecipeBuilder.vue'

const { collection, refresh } = useCollection()
const name = computed(() => collection.value.name)
const indexes = useQuery(() => name.value, (signal) => api.indexes(name.value, signal), { keep: true })
const { follow } = useJobs()
const confirm = useConfirm()
const both = () => Promise.all([indexes.refresh(), refresh()])

const recipe = ref('graph(links=16, build=200)')
const newName = ref('')
const column = ref<string | null>(null)
const columns = computed(() => collection.value.columns.map((c) => c.name))
const chosen = computed(() => column.value ?? collection.value.default_column ?? '')
const body = computed(() => ({ recipe: recipe.value, column: chosen.value, ...(newName.value ? { name: newName.value } : {}) }))

const build = useAction(async () => {
  const job = await api.build(name.value, body.value)
  void indexes.refresh()
  await follow(job).finally(both)
})
const absorb = useAction(async (i: Index) => {
  const job = await api.absorb(name.value, i.name)
  void indexes.refresh()
  await follow(job).finally(both)
})
const unload = useAction(async (i: Index) => {
  await api.unloadIndex(name.value, i.name)
  await indexes.refresh()
})
const load = useAction(async (i: Index) => {
  await api.loadIndex(name.value, i.name)
  await indexes.refresh()
})
const drop = useAction(async (i: Index) => {
  await api.dropIndex(name.value, i.name)
  await both()
})
function askToDrop(event: Event, i: Index) {
  confirm.require({
    target: event.currentTarget as HTMLElement,
    message: i.serving ? `"${i.name}" answers searches. Without it they scan every record.` : `Drop index "${i.name}"? The records stay.`,
    icon: 'pi pi-exclamation-triangle',
    acceptProps: { label: 'Drop it', severity: 'danger', size: 'small' },
    rejectProps: { label: 'Keep it', severity: 'secondary', text: true, size: 'small' },
    accept: () => void drop.run(i),
  })
}
const at = (tail: string) => `/c/${encodeURIComponent(name.value)}${tail}`
const isReady = (i: Index) => i.state === 'ready'
</script>

<template>
  <div><h1>Indexes</h1><div class="soft">The indexes over the vectors, what they take, and what they gave when last measured.</div></div>
  <QueryState v-slot="{ data }" :query="indexes">
    <div class="sheet gap">
      <DataTable v-if="data.length" :value="data" data-key="name" size="small" scrollable data-indexes>
        <Column header="Index" field="name" sortable class="nowrap"><template #body="{ data: i }: { data: Index }"><strong>{{ i.name }}</strong> <i v-if="i.serving" v-tooltip.bottom="'Serving choice'" class="pi pi-lightbulb lamp" role="img" aria-label="Serving choice" /><div v-if="columns.length > 1" class="soft">{{ i.column }}</div></template></Column>
        <Column header="Recipe"><template #body="{ data: i }: { data: Index }"><code>{{ i.recipe }}</code><div v-if="i.error" class="bad">{{ i.error }}</div></template></Column>
        <Column header="State" field="state" />
        <Column header="Rows" class="num"><template #body="{ data: i }: { data: Index }">{{ count(i.n_rows) }}</template></Column>
        <Column class="num"><template #header><span v-tooltip.bottom="'Records newer than the index. Searches scan them.'" tabindex="0">Newer</span></template><template #body="{ data: i }: { data: Index }">{{ count(i.n_uncovered) }}</template></Column>
        <Column class="num"><template #header><span v-tooltip.bottom="'Rows that were deleted or replaced since the build. Searches skip them.'" tabindex="0">Dead</span></template><template #body="{ data: i }: { data: Index }">{{ count(i.n_dead) }}</template></Column>
        <Column header="Read throughout" field="n_bytes_memory" sortable class="num"><template #body="{ data: i }: { data: Index }">{{ isReady(i) ? bytes(i.n_bytes_memory) : '' }}<div v-if="i.expected" class="soft">{{ bytes(i.expected.memory_bytes) }}</div></template></Column>
        <Column header="File" field="n_bytes_file" sortable class="num"><template #body="{ data: i }: { data: Index }">{{ isReady(i) ? bytes(i.n_bytes_file) : '' }}<div v-if="i.expected" class="soft">{{ bytes(i.expected.file_bytes) }}</div></template></Column>
        <Column header="Built in" field="build_seconds" sortable class="num"><template #body="{ data: i }: { data: Index }">{{ isReady(i) ? seconds(i.build_seconds) : '' }}<div v-if="i.expected" class="soft">{{ seconds(i.expected.build_seconds) }}</div></template></Column>
        <Column header="Recall" field="measured.recall_mean" sortable class="num approx"><template #body="{ data: i }: { data: Index }">{{ i.measured ? i.measured.recall_mean.toFixed(4) : '' }}</template></Column>
        <Column header="p50" field="measured.p50_us" sortable class="num"><template #body="{ data: i }: { data: Index }">{{ i.measured ? micros(i.measured.p50_us) : '' }}</template></Column>
        <Column header="Measured at"><template #body="{ data: i }: { data: Index }"><RouterLink v-if="i.measured" :to="{ path: at('/tuning'), query: { sweep: i.measured.sweep } }">{{ settingsText(i.measured.settings) || 'no settings' }}</RouterLink><RouterLink v-else-if="isReady(i)" :to="at('/tuning')">measure</RouterLink></template></Column>
        <Column class="num nowrap">
          <template #body="{ data: i }: { data: Index }">
            <Button v-if="isReady(i)" v-tooltip.left="'Adds newer records and repairs links to dead rows. The service also does so by itself.'" size="small" text label="Absorb" class="slim" :disabled="!i.n_uncovered && !i.n_dead" :aria-label="`Absorb changes into ${i.name}`" @click="absorb.run(i)" />
            <Button v-else-if="i.state === 'failed'" size="small" text label="Build again" class="slim" :aria-label="`Build ${i.name} again`" @click="absorb.run(i)" />
            <Button v-if="isReady(i) && !i.serving" v-tooltip.left="'Puts it out of memory on all nodes. Its file stays.'" size="small" text label="Unload" class="slim" :aria-label="`Unload ${i.name}`" @click="unload.run(i)" />
            <Button v-else-if="i.state === 'unloaded'" size="small" text label="Load" class="slim" :aria-label="`Load ${i.name}`" :loading="load.busy.value" @click="load.run(i)" />
            <Button v-if="i.state !== 'building'" size="small" text severity="danger" icon="pi pi-trash" class="slim" :aria-label="`Drop ${i.name}`" @click="askToDrop($event, i)" />
          </template>
        </Column>
      </DataTable>
      <p v-else class="soft none">No index yet. Searches scan every record, which is exact. Build an index below to search faster.</p>
      <p v-if="data.length" class="soft foot">The second line of memory, file and build time is what the recipe was expected to take.</p>
    </div>
  </QueryState>
  <FailureNote v-if="absorb.failure.value" :failure="absorb.failure.value" :again="false" />
  <FailureNote v-if="drop.failure.value" :failure="drop.failure.value" :again="false" />
  <FailureNote v-if="load.failure.value" :failure="load.failure.value" :again="false" />
  <FailureNote v-if="unload.failure.value" :failure="unload.failure.value" :again="false" />

  <h2>Build an index</h2>
  <div v-if="!chosen" class="sheet">No vector column yet. <RouterLink :to="at('')">Add one</RouterLink> first.</div>
  <form v-else class="sheet" @submit.prevent="build.run()">
    <RecipeBuilder v-model="recipe" :collection="name" :column="chosen" />
    <div class="row build">
      <Select v-if="columns.length > 1" :model-value="chosen" :options="columns" size="small" aria-label="Vector column" @update:model-value="column = $event" />
      <InputText v-model="newName" size="small" placeholder="name, if you like" aria-label="Name of the index" />
      <Button type="submit" size="small" icon="pi pi-hammer" label="Build index" />
    </div>
    <FailureNote v-if="build.failure.value" :failure="build.failure.value" :again="false" />
    <EqualCommands :zesty="`zesty index build ${quoted(name)} ${quoted(recipe)}${newName ? ` --name ${quoted(newName)}` : ''}${columns.length > 1 ? ` --column ${quoted(chosen)}` : ''}`" method="POST" :path="`${pathOf(name)}/indexes`" :body="body" />
  </form>
</template>

<style scoped>
.foot { margin: 0.5rem 0 0; font-size: 0.9em; }
.build { margin-top: 0.8rem; }
</style>
