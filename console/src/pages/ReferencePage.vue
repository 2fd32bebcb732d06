<script setup lang="ts">
import { computed, ref } from 'vue'
import InputText from 'primevue/inputtext'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import { api } from '../api/client'
import { useQuery } from '../api/query'
import type { Content, Operation, Schema } from '../api/shapes'
import QueryState from '../parts/QueryState.vue'
import SchemaTable from '../parts/SchemaTable.vue'

const described = useQuery(() => 0, api.openapi)
const wanted = ref('')

interface Listed { id: string; method: string; path: string; op: Operation }
type Parameter = NonNullable<Operation['parameters']>[number]
const groups = computed(() => {
  const all = new Map<string, Listed[]>()
  for (const [path, methods] of Object.entries(described.data.value?.paths ?? {})) {
    for (const [method, op] of Object.entries(methods)) {
      const text = `${method} ${path} ${op.summary ?? ''}`.toLowerCase()
      if (!text.includes(wanted.value.toLowerCase())) continue
      const tag = op.tags?.[0] ?? 'other'
      all.set(tag, [...(all.get(tag) ?? []), { id: `${method}${path}`, method: method.toUpperCase(), path, op }])
    }
  }
  return [...all]
})
const schemaOf = (content: Content | undefined): Schema | undefined => Object.values(content ?? {})[0]?.schema
const isRefusal = ([status]: [string, unknown]) => status >= '400'
const answers = (op: Operation) => Object.entries(op.responses ?? {}).filter((r) => !isRefusal(r))
const refusals = (op: Operation) => Object.entries(op.responses ?? {}).filter(isRefusal)
/** Paragraphs and lists of the little Markdown that descriptions hold. */
const paragraphs = (text: string | undefined) => (text ?? '').split('\n\n').filter(Boolean)
</script>

<template>
  <QueryState v-slot="{ data }" :query="described">
    <div class="row spread">
      <h1>{{ data.info.title }} API <span class="soft normal">{{ data.info.version }}</span></h1>
      <div class="row"><a href="/api/openapi.json">openapi.json</a><InputText v-model="wanted" size="small" placeholder="Find a route" aria-label="Find a route" data-query-box /></div>
    </div>
    <div class="intro">
      <template v-for="p in paragraphs(data.info.description)" :key="p">
        <details v-if="p.startsWith('- ')"><summary>{{ p.split('\n').length }} kinds of problem</summary><ul><li v-for="line in p.split('\n')" :key="line">{{ line.slice(2).replaceAll('`', '') }}</li></ul></details>
        <p v-else>{{ p.replaceAll('`', '') }}</p>
      </template>
    </div>
    <section v-for="[tag, operations] in groups" :key="tag">
      <h2>{{ tag }}</h2>
      <details v-for="o in operations" :key="o.id" class="sheet operation">
        <summary><b class="method mono">{{ o.method }}</b><code>{{ o.path }}</code><span class="soft">{{ o.op.summary }}</span></summary>
        <p v-for="p in paragraphs(o.op.description)" :key="p">{{ p.replaceAll('`', '') }}</p>
        <template v-if="o.op.parameters?.length">
          <h3>Parameters</h3>
          <DataTable :value="o.op.parameters" data-key="name" size="small">
            <Column header="Name"><template #body="{ data: p }: { data: Parameter }"><code>{{ p.name }}</code></template></Column>
            <Column header="Where" class="soft"><template #body="{ data: p }: { data: Parameter }">in the {{ p.in }}{{ p.required ? '' : ', optional' }}</template></Column>
            <Column header="Meaning" field="description" />
          </DataTable>
        </template>
        <template v-if="o.op.requestBody"><h3>Body</h3><SchemaTable :schema="schemaOf(o.op.requestBody.content) ?? {}" :all="data.components.schemas" /></template>
        <template v-for="[status, r] in answers(o.op)" :key="status">
          <h3>Answer {{ status }}</h3>
          <SchemaTable v-if="r.content" :schema="schemaOf(r.content) ?? {}" :all="data.components.schemas" />
          <p v-else class="soft">no body</p>
        </template>
        <template v-if="refusals(o.op).length">
          <h3>Refusals, as Problem Details</h3>
          <ul class="refusals"><li v-for="[status, r] in refusals(o.op)" :key="status"><b>{{ status }}</b> {{ r.description?.replaceAll('`', '') }}</li></ul>
        </template>
      </details>
    </section>
  </QueryState>
</template>

<style scoped>
.intro { max-width: 60rem; }
h2 { text-transform: capitalize; }
h3 { font-size: 0.93rem; margin: 0.8rem 0 0.2rem; }
.operation { padding: 0.45rem 0.9rem; margin-bottom: 0.35rem; }
summary { cursor: pointer; }
.operation summary { display: flex; gap: 0.8rem; align-items: baseline; }
.method { width: 4rem; }
.refusals { margin: 0.3rem 0; padding-left: 1.1rem; }
</style>
