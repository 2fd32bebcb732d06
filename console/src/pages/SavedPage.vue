<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import Button from 'primevue/button'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import InputText from 'primevue/inputtext'
import { useAction } from '../api/action'
import { api } from '../api/client'
import { useQuery } from '../api/query'
import type { SavedSearch } from '../api/shapes'
import DefinitionEditor from '../parts/saved/DefinitionEditor.vue'
import { example, shownVersion } from '../parts/saved/values'
import { useCollection } from '../parts/collection'
import FailureNote from '../parts/FailureNote.vue'
import QueryState from '../parts/QueryState.vue'

const { collection } = useCollection()
const name = computed(() => collection.value.name)
const router = useRouter()
const saved = useQuery(() => name.value, (signal) => api.savedSearches(name.value, signal), { keep: true })
const to = (s: string) => `/c/${encodeURIComponent(name.value)}/saved/${encodeURIComponent(s)}`
const makes = ref(false)
const fresh = ref('')
const text = ref('')
function begin() {
  const column = collection.value.columns.find((c) => c.name === collection.value.default_column)
  text.value = example(!!column?.encoder, Object.keys(collection.value.fields.properties ?? {}))
  makes.value = true
}
const save = useAction(async () => {
  await api.saveSearch(name.value, fresh.value.trim(), JSON.parse(text.value))
  await router.push(to(fresh.value.trim()))
})
</script>

<template>
  <div class="row spread">
    <div><h1>Saved searches</h1><div class="soft">A search with parameters, in versions, at an address of its own: what you hand to an application.</div></div>
    <Button v-if="!makes" size="small" icon="pi pi-plus" label="Save a search" data-new @click="begin" />
  </div>
  <form v-if="makes" class="sheet gap" @submit.prevent="save.run()">
    <div class="field"><label for="saved-name">Name: a-z, 0-9, - and _</label><InputText id="saved-name" v-model="fresh" size="small" placeholder="notes-near" /></div>
    <DefinitionEditor v-model="text" />
    <div class="row gap"><Button type="submit" size="small" icon="pi pi-save" label="Save as a draft" :disabled="!fresh.trim()" :loading="save.busy.value" data-save /><Button size="small" text label="Not now" @click="makes = false" /></div>
    <FailureNote v-if="save.failure.value" :failure="save.failure.value" :again="false" />
  </form>
  <QueryState v-slot="{ data: all }" :query="saved">
    <div class="sheet gap">
      <DataTable :value="all" data-key="name" size="small" scrollable data-saved>
        <Column header="Saved search"><template #body="{ data: s }: { data: SavedSearch }"><RouterLink :to="to(s.name)">{{ s.name }}</RouterLink></template></Column>
        <Column header="Answers"><template #body="{ data: s }: { data: SavedSearch }"><span v-if="s.live !== null" class="lampmark">version {{ s.live }}</span><span v-else class="soft">a draft</span></template></Column>
        <Column header="Newest" class="num"><template #body="{ data: s }: { data: SavedSearch }">{{ s.versions[0]?.version }}</template></Column>
        <Column header="Parameters"><template #body="{ data: s }: { data: SavedSearch }"><code>{{ Object.keys(shownVersion(s)?.definition.parameters ?? {}).join(', ') }}</code></template></Column>
        <Column header="About"><template #body="{ data: s }: { data: SavedSearch }">{{ shownVersion(s)?.definition.description }}<span v-if="s.trouble" class="bad"> {{ s.trouble }}</span></template></Column>
        <template #empty><span class="soft">None yet. Save one here, or with <code>zesty saved save {{ name }} NAME FILE</code>.</span></template>
      </DataTable>
    </div>
  </QueryState>
</template>
