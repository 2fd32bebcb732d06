<script setup lang="ts">
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import Button from 'primevue/button'
import { useAction } from '../api/action'
import { api } from '../api/client'
import { useQuery } from '../api/query'
import { when } from '../api/words'
import { useCollection } from '../parts/collection'
import FailureNote from '../parts/FailureNote.vue'
import QueryState from '../parts/QueryState.vue'
import ReportDownloads from '../parts/ReportDownloads.vue'
import SweepReport from '../parts/SweepReport.vue'

const { collection } = useCollection()
const route = useRoute()
const router = useRouter()
const id = computed(() => Number(route.params.sweep))
const sweep = useQuery(() => id.value, (signal) => api.sweep(collection.value.name, id.value, signal))
const tuning = computed(() => `/c/${encodeURIComponent(collection.value.name)}/tuning`)
const remove = useAction(async () => {
  await api.deleteSweep(collection.value.name, id.value)
  await router.push(tuning.value)
})
</script>

<template>
  <FailureNote v-if="remove.failure.value" :failure="remove.failure.value" :again="false" />
  <QueryState v-slot="{ data }" :query="sweep">
    <div class="row spread">
      <div><h1>Sweep {{ data.id }}: {{ data.result.indexes.map((i) => i.name).join(', ') }}</h1><div class="soft">{{ when(data.created_at) }} · <RouterLink :to="tuning">all of Tuning</RouterLink></div></div>
      <div class="row"><ReportDownloads :id="data.id" :collection="collection.name" kind="sweep" /><Button size="small" text severity="danger" icon="pi pi-trash" label="Delete" :loading="remove.busy.value" @click="remove.run()" /></div>
    </div>
    <div class="gap"><SweepReport :sweep="data" /></div>
  </QueryState>
</template>
