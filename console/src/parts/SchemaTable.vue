<script setup lang="ts">
/** The members of a schema of the OpenAPI document; named schemas are opened one level. */
import { computed } from 'vue'

const props = defineProps<{ schema: any; all: Record<string, any> }>()
const nameOf = (s: any): string => s?.$ref?.split('/').pop() ?? ''
const resolved = computed(() => (nameOf(props.schema) ? props.all[nameOf(props.schema)] : props.schema))
const members = computed<[string, any][]>(() => {
  const s = resolved.value
  const parts = s?.allOf ? s.allOf.map((p: any) => (nameOf(p) ? props.all[nameOf(p)] : p)) : [s]
  return parts.flatMap((p: any) => Object.entries(p?.properties ?? {}))
})
const required = computed<string[]>(() => resolved.value?.required ?? [])
function type(s: any): string {
  if (!s) return ''
  if (nameOf(s)) return nameOf(s)
  const either = s.oneOf ?? s.anyOf
  if (either) return either.map(type).join(' or ')
  if (s.type === 'array') return `array of ${type(s.items)}`
  return Array.isArray(s.type) ? s.type.join(' or ') : (s.type ?? 'any')
}
</script>

<template>
  <div v-if="nameOf(schema)" class="soft">{{ nameOf(schema) }}</div>
  <table v-if="members.length" class="plain">
    <tbody>
      <tr v-for="[name, s] in members" :key="name"><td><code>{{ name }}</code></td><td class="soft">{{ type(s) }}{{ required.includes(name) ? '' : ', optional' }}</td><td>{{ s.description }}</td></tr>
    </tbody>
  </table>
  <div v-else class="soft">{{ type(resolved) }}</div>
</template>
