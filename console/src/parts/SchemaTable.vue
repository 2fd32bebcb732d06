<script setup lang="ts">
/** The members of a schema of the OpenAPI document; named schemas are opened one level. */
import { computed } from 'vue'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import type { Schema } from '../api/shapes'

interface Member {
  name: string
  type: string
  description: string
}
const props = defineProps<{ schema: Schema; all: Record<string, Schema> }>()
const nameOf = (s: Schema): string => s.$ref?.split('/').pop() ?? ''
const open = (s: Schema): Schema => (nameOf(s) ? (props.all[nameOf(s)] ?? s) : s)
const resolved = computed(() => open(props.schema))
const members = computed<Member[]>(() =>
  (resolved.value.allOf ?? [resolved.value]).map(open).flatMap((part) =>
    Object.entries(part.properties ?? {}).map(([name, s]) => ({
      name,
      type: typeOf(s) + (part.required?.includes(name) ? '' : ', optional'),
      description: s.description ?? '',
    })),
  ),
)
function typeOf(s: Schema | undefined): string {
  if (!s) return ''
  if (nameOf(s)) return nameOf(s)
  const either = s.oneOf ?? s.anyOf
  if (either) return either.map(typeOf).join(' or ')
  if (s.type === 'array') return `array of ${typeOf(s.items)}`
  return Array.isArray(s.type) ? s.type.join(' or ') : (s.type ?? 'any')
}
</script>

<template>
  <div v-if="nameOf(schema)" class="soft">{{ nameOf(schema) }}</div>
  <DataTable v-if="members.length" :value="members" data-key="name" size="small">
    <Column header="Member"><template #body="{ data: m }: { data: Member }"><code>{{ m.name }}</code></template></Column>
    <Column header="Type" field="type" body-class="soft" />
    <Column header="Meaning" field="description" />
  </DataTable>
  <div v-else class="soft">{{ typeOf(resolved) }}</div>
</template>
