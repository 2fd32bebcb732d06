<script setup lang="ts">
import { computed, ref, shallowRef } from 'vue'
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import Select from 'primevue/select'
import { api, type Refusal } from '../api/client'
import { useJobs } from '../api/jobs'
import { useResource } from '../api/resource'
import type { Index, Job } from '../api/shapes'
import { bytes, count, micros, quoted, seconds, settingsText } from '../api/words'
import EqualCommands from '../parts/EqualCommands.vue'
import FailureNote from '../parts/FailureNote.vue'
import RecipeBuilder from '../parts/RecipeBuilder.vue'
import ResourceState from '../parts/ResourceState.vue'

const props = defineProps<{ name: string }>()
const collection = useResource(() => props.name, () => api.collection(props.name))
const indexes = useResource(() => props.name, () => api.indexes(props.name))
const { follow } = useJobs()
const dropping = ref('')

const recipe = ref('graph(links=16, build=200)')
const called = ref('')
const column = ref<string | null>(null)
const columns = computed(() => collection.data.value?.columns.map((c) => c.name) ?? [])
const chosen = computed(() => column.value ?? collection.data.value?.default_column ?? '')
const refused = shallowRef<Refusal | null>(null)
async function work(start: () => Promise<Job | void>) {
  refused.value = null
  try {
    const job = await start()
    void indexes.refresh()
    if (job) await follow(job)
    await indexes.refresh()
  } catch (error) {
    refused.value = error as Refusal
  }
}
const build = () => work(() => api.build(props.name, recipe.value, called.value, chosen.value))
const absorb = (i: Index) => work(() => api.absorb(props.name, i.name))
const drop = (i: Index) => work(() => api.drop(props.name, i.name))
const at = (tail: string) => `/c/${encodeURIComponent(props.name)}${tail}`
</script>

<template>
  <div><h1>Indexes</h1><div class="soft">What is built over the vectors, what it takes, and what it was last measured to give.</div></div>
  <ResourceState :resource="indexes" v-slot="{ data }">
    <div class="sheet scroll gap">
      <table v-if="data.length" class="plain" data-indexes>
        <thead>
          <tr><th>Index</th><th>Recipe</th><th>State</th><th class="num">Rows</th><th class="num" title="Records newer than the index; scanned beside it">Newer</th><th class="num" title="Rows deleted or replaced since; masked">Dead</th><th class="num">Memory</th><th class="num">File</th><th class="num">Built in</th><th class="num">Recall</th><th class="num">p50</th><th>Measured at</th><th></th></tr>
        </thead>
        <tbody>
          <tr v-for="i in data" :key="i.name">
            <td><strong>{{ i.name }}</strong> <i v-if="i.serving" class="pi pi-lightbulb lamp" title="Serving choice" /><div v-if="columns.length > 1" class="soft">{{ i.column }}</div></td>
            <td><code>{{ i.recipe }}</code><div v-if="i.error" class="wrong">{{ i.error }}</div></td>
            <td>{{ i.state }}</td>
            <td class="num">{{ count(i.n_rows) }}</td><td class="num">{{ count(i.n_uncovered) }}</td><td class="num">{{ count(i.n_dead) }}</td>
            <td class="num">{{ i.state === 'ready' ? bytes(i.n_bytes_memory) : '' }}<div v-if="i.expected" class="soft" title="Expected of the recipe for these rows">{{ bytes(i.expected.memory_bytes) }}</div></td>
            <td class="num">{{ i.state === 'ready' ? bytes(i.n_bytes_file) : '' }}<div v-if="i.expected" class="soft" title="Expected of the recipe for these rows">{{ bytes(i.expected.file_bytes) }}</div></td>
            <td class="num">{{ i.state === 'ready' ? seconds(i.build_seconds) : '' }}<div v-if="i.expected" class="soft" title="Processor seconds expected; threads share them">{{ seconds(i.expected.build_seconds) }}</div></td>
            <td class="num approx">{{ i.measured ? i.measured.recall_mean.toFixed(4) : '' }}</td>
            <td class="num">{{ i.measured ? micros(i.measured.p50_us) : '' }}</td>
            <td><RouterLink v-if="i.measured" :to="{ path: at('/tuning'), query: { sweep: i.measured.sweep } }">{{ settingsText(i.measured.settings) || 'no settings' }}</RouterLink><RouterLink v-else-if="i.state === 'ready'" :to="at('/tuning')">measure</RouterLink></td>
            <td class="num nowrap">
              <Button v-if="i.state === 'ready'" size="small" text label="Absorb" class="slim" :disabled="!i.n_uncovered && !i.n_dead" :aria-label="`Absorb changes into ${i.name}`" title="Fold in newer records and mend what led over dead ones; happens by itself when much has changed" @click="absorb(i)" />
              <Button v-else-if="i.state === 'failed'" size="small" text label="Build again" class="slim" :aria-label="`Build ${i.name} again`" @click="absorb(i)" />
              <template v-if="dropping === i.name"><span class="soft">{{ i.serving ? 'searches will be exact' : 'records stay' }}</span><Button size="small" text severity="danger" label="Drop" class="slim" @click="drop(i)" /><Button size="small" text label="Keep" class="slim" @click="dropping = ''" /></template>
              <Button v-else-if="i.state !== 'building'" size="small" text severity="danger" icon="pi pi-trash" class="slim" :aria-label="`Drop ${i.name}`" @click="dropping = i.name" />
            </td>
          </tr>
        </tbody>
      </table>
      <p v-else class="soft none">No index yet: searches look at every record. Build one below to search faster.</p>
      <p v-if="data.length" class="soft foot">The second line of memory, file and build is what was expected of the recipe.</p>
    </div>
  </ResourceState>

  <h2>Build an index</h2>
  <ResourceState :resource="collection">
    <div v-if="!chosen" class="sheet">No vector column yet. <RouterLink :to="at('')">Add one</RouterLink>, then an index can be built over it.</div>
    <form v-else class="sheet" @submit.prevent="build">
      <RecipeBuilder v-model="recipe" :collection="name" :column="chosen" />
      <div class="row build">
        <Select v-if="columns.length > 1" :model-value="chosen" :options="columns" size="small" aria-label="Vector column" @update:model-value="column = $event" />
        <InputText v-model="called" size="small" placeholder="name, if you like" aria-label="Name" />
        <Button type="submit" size="small" icon="pi pi-hammer" label="Build index" />
      </div>
      <FailureNote v-if="refused" :failure="refused" :again="false" />
      <EqualCommands
        :zesty="`zesty index build ${quoted(name)} ${quoted(recipe)}`" method="POST"
        :path="`/api/collections/${encodeURIComponent(name)}/indexes`" :body="{ recipe, column: chosen }"
      />
    </form>
  </ResourceState>
</template>

<style scoped>
.gap { margin-top: 0.9rem; }
.lamp { color: #b58900; }
.none { margin: 0.2rem 0 0.4rem; }
.foot { margin: 0.5rem 0 0; font-size: 0.9em; }
.build { margin-top: 0.8rem; }
.wrong { color: var(--wrong); }
.nowrap { white-space: nowrap; }
.slim { padding: 0 0.4rem; }
</style>
