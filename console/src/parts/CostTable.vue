<script setup lang="ts">
/** What a collection costs, part by part. */
import { api } from '../api/client'
import { useResource } from '../api/resource'
import { bytes, count, when } from '../api/words'
import ResourceState from './ResourceState.vue'

const props = defineProps<{ name: string; revision: number }>()
const costs = useResource(() => [props.name, props.revision], () => api.costs(props.name))
const shown = (n: number) => (n ? bytes(n) : '')
</script>

<template>
  <ResourceState :resource="costs" v-slot="{ data: c }">
    <table class="plain" data-costs>
      <thead><tr><th>Part</th><th class="num">Rows</th><th class="num">MariaDB</th><th class="num">Disk</th><th class="num">Memory</th><th class="num">Covers</th></tr></thead>
      <tbody>
        <tr v-for="p in c.parts" :key="p.part + p.name">
          <td><span class="soft">{{ p.part === 'records' ? '' : p.part }}</span> {{ p.name }}</td><td class="num">{{ count(p.n) }}</td>
          <td class="num">{{ shown(p.database) }}</td><td class="num">{{ shown(p.disk) }}</td><td class="num">{{ shown(p.memory) }}</td>
          <td class="num">{{ p.coverage === null ? '' : `${(100 * p.coverage).toFixed(1)}%` }}</td>
        </tr>
        <tr><td><strong>total</strong></td><td></td><td class="num"><strong>{{ bytes(c.database) }}</strong></td><td class="num"><strong>{{ bytes(c.disk) }}</strong></td><td class="num"><strong>{{ bytes(c.memory) }}</strong></td><td></td></tr>
      </tbody>
    </table>
    <div class="soft">{{ c.written_at ? `last written ${when(c.written_at)} UTC` : 'nothing was written yet' }}</div>
  </ResourceState>
</template>
