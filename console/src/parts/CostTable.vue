<script setup lang="ts">
/** What a collection costs, part by part. */
import Column from 'primevue/column'
import ColumnGroup from 'primevue/columngroup'
import DataTable from 'primevue/datatable'
import Row from 'primevue/row'
import { api } from '../api/client'
import { useQuery } from '../api/query'
import type { CostPart } from '../api/shapes'
import { bytes, count, when } from '../api/words'
import QueryState from './QueryState.vue'

const props = defineProps<{ name: string; revision: number }>()
const costs = useQuery(() => [props.name, props.revision], (signal) => api.costs(props.name, signal), { keep: true })
const shown = (n: number) => (n ? bytes(n) : '')
</script>

<template>
  <QueryState v-slot="{ data: c }" :query="costs">
    <DataTable :value="c.parts" :data-key="(p: CostPart) => p.part + p.name" size="small" data-costs>
      <Column header="Part"><template #body="{ data: p }: { data: CostPart }"><span class="soft">{{ p.part === 'records' ? '' : p.part }}</span> {{ p.name }}</template></Column>
      <Column header="Rows" class="num"><template #body="{ data: p }: { data: CostPart }">{{ count(p.n) }}</template></Column>
      <Column header="MariaDB" class="num"><template #body="{ data: p }: { data: CostPart }">{{ shown(p.database) }}</template></Column>
      <Column header="Disk" class="num"><template #body="{ data: p }: { data: CostPart }">{{ shown(p.disk) }}</template></Column>
      <Column header="Memory" class="num"><template #body="{ data: p }: { data: CostPart }">{{ shown(p.memory) }}</template></Column>
      <Column header="Mapped" class="num"><template #body="{ data: p }: { data: CostPart }">{{ shown(p.mapped) }}</template></Column>
      <Column header="Covers" class="num"><template #body="{ data: p }: { data: CostPart }">{{ p.coverage === null ? '' : `${(100 * p.coverage).toFixed(1)}%` }}</template></Column>
      <ColumnGroup type="footer">
        <Row><Column footer="total" /><Column footer="" /><Column class="num" :footer="bytes(c.database)" /><Column class="num" :footer="bytes(c.disk)" /><Column class="num" :footer="bytes(c.memory)" /><Column class="num" :footer="bytes(c.mapped)" /><Column footer="" /></Row>
      </ColumnGroup>
    </DataTable>
    <div class="soft">{{ c.written_at ? `last written ${when(c.written_at)} UTC` : 'nothing was written yet' }}</div>
  </QueryState>
</template>
