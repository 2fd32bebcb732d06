<script setup lang="ts">
import { computed, onMounted, ref, watch } from 'vue'
import Button from 'primevue/button'
import Popover from 'primevue/popover'
import ProgressBar from 'primevue/progressbar'
import { useToast } from 'primevue/usetoast'
import { useAction } from '../api/action'
import { api } from '../api/client'
import { useJobs } from '../api/jobs'
import type { Job } from '../api/shapes'
import { seconds, when } from '../api/words'
import FailureNote from './FailureNote.vue'

const { jobs, refresh } = useJobs()
const tray = ref<InstanceType<typeof Popover> | null>(null)
const running = computed(() => jobs.value.filter((j) => j.state === 'running'))
const read = useAction(refresh)
const cancel = useAction(api.cancel)
onMounted(() => void read.run())
const toast = useToast()
let before: Job[] = []
watch(jobs, (now) => {
  for (const job of now) {
    const was = before.find((b) => b.id === job.id)
    if (was?.state === 'running' && job.state !== 'running') {
      const good = job.state === 'done'
      toast.add({
        severity: good ? 'success' : 'warn',
        summary: `${job.kind} ${job.subject} ${job.state}`,
        detail: job.error ?? `after ${seconds(job.elapsed_s)}`,
        life: good ? 4000 : 12000,
      })
    }
  }
  before = now
})
const percent = (j: Job) => (j.total ? Math.round((100 * j.done) / j.total) : 0)
</script>

<template>
  <Button
    text size="small" data-jobs
    :icon="running.length ? 'pi pi-spin pi-cog' : 'pi pi-cog'"
    :label="running.length ? `${running.length} running · ${percent(running[0]!)}%` : 'Jobs'"
    @click="(e: Event) => { void read.run(); tray?.toggle(e) }"
  />
  <Popover ref="tray">
    <div class="tray">
      <FailureNote v-if="read.failure.value" :failure="read.failure.value" @retry="read.run()" />
      <FailureNote v-if="cancel.failure.value" :failure="cancel.failure.value" :again="false" />
      <p v-if="!jobs.length" class="soft">No jobs yet. Loads, builds and sweeps show here while they run.</p>
      <div v-for="job in jobs.slice(0, 12)" :key="job.id" class="job">
        <div class="row spread">
          <span><strong>{{ job.kind }}</strong> {{ job.subject }} <span class="soft">{{ job.stage ?? job.collection }}</span></span>
          <span class="soft">{{ job.state === 'running' ? (job.left_s !== null ? `left ${seconds(job.left_s)}` : '…') : `${job.state} · ${seconds(job.elapsed_s)} · ${when(job.created_at)}` }}</span>
        </div>
        <div v-if="job.state === 'running'" class="row">
          <ProgressBar :value="percent(job)" :aria-label="`Progress of ${job.kind} ${job.subject}`" style="height: 0.7rem; flex: 1" :show-value="false" />
          <span class="num soft">{{ percent(job) }}%</span>
          <Button size="small" text severity="danger" label="Cancel" :aria-label="`Cancel ${job.kind} ${job.subject}`" @click="cancel.run(job.id)" />
        </div>
        <div v-if="job.error" class="wrong">{{ job.error }}</div>
      </div>
    </div>
  </Popover>
</template>

<style scoped>
.tray { width: 30rem; max-height: 60vh; overflow: auto; display: grid; gap: 0.5rem; }
.job { border-bottom: 1px solid var(--line); padding-bottom: 0.4rem; }
.job:last-child { border: 0; }
.wrong { color: var(--wrong); font-size: 0.92em; }
</style>
