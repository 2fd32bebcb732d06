<script setup lang="ts">
/** A load while it runs, and its reconciliation after it. */
import { computed } from 'vue'
import Button from 'primevue/button'
import ProgressBar from 'primevue/progressbar'
import { useAction } from '../api/action'
import { api } from '../api/client'
import { loadOf, type Job } from '../api/shapes'
import { bytes, count, seconds } from '../api/words'

const props = defineProps<{ name: string; load: number; job: Job }>()
defineEmits<{ resume: [badRows?: 'set-aside'] }>()
const cancel = useAction(api.cancel)
const n = computed(() => ({ read: 0, new: 0, replaced: 0, unchanged: 0, rejected: 0, unencoded: 0, rows_per_s: 0, before: 0, in_database: 0, ...loadOf(props.job) }))
const percent = computed(() => (props.job.total ? Math.round((100 * props.job.done) / props.job.total) : 0))
const rejects = computed(() => `/api/collections/${encodeURIComponent(props.name)}/loads/${props.load}/rejects`)
const parts = computed(() => [
  ['new', n.value.new, ''], ['replaced', n.value.replaced, ''], ['unchanged', n.value.unchanged, ''], ['rejected', n.value.rejected, n.value.rejected ? 'bad' : ''],
] as const)
</script>

<template>
  <section class="sheet" data-load :data-state="job.state">
    <div class="row spread">
      <strong>Load {{ load }}: {{ job.subject }}</strong>
      <span class="soft">{{ job.state === 'running' ? 'running' : `${job.state} after ${seconds(job.elapsed_s)}` }}</span>
    </div>
    <div v-if="job.state === 'running'" class="row">
      <ProgressBar :value="percent" aria-label="Progress of the load" style="height: 0.8rem; flex: 1" :show-value="false" />
      <span class="num">{{ percent }}%</span>
      <span class="num soft">{{ bytes(job.done) }} of {{ bytes(job.total) }} · {{ count(n.rows_per_s) }} rows/s<template v-if="job.left_s !== null"> · {{ seconds(job.left_s) }} left</template></span>
      <Button size="small" text severity="danger" label="Cancel" :loading="cancel.busy.value" @click="cancel.run(job.id)" />
    </div>
    <div v-if="cancel.failure.value" class="bad" role="alert">{{ cancel.failure.value.message }}</div>
    <div class="sum" data-sum>
      <div><b class="num">{{ count(n.read) }}</b><span class="soft">read</span></div>
      <template v-for="([word, value, mark], i) in parts" :key="word">
        <span class="soft sign">{{ i ? '+' : '=' }}</span>
        <div><b class="num" :class="mark">{{ count(value) }}</b><span class="soft">{{ word }}</span></div>
      </template>
    </div>
    <template v-if="job.state === 'done' && n.load">
      <p :class="{ bad: !n.adds_up }" data-adds-up>
        <i :class="n.adds_up ? 'pi pi-check-circle good' : 'pi pi-exclamation-triangle'" />
        {{ n.adds_up ? 'The counts add up' : 'The counts do not add up' }}: {{ name }} held {{ count(n.before) }} records and holds {{ count(n.in_database) }}, counted by the database{{ n.others_wrote ? '. Others wrote to it meanwhile' : '' }}.
      </p>
      <p v-for="notice in n.notices" :key="notice" class="soft"><i class="pi pi-info-circle" aria-hidden="true" /> {{ notice }}</p>
      <div class="row">
        <RouterLink :to="`/c/${encodeURIComponent(name)}/fields`"><Button size="small" outlined label="Look at the fields" /></RouterLink>
        <RouterLink :to="`/c/${encodeURIComponent(name)}/search`"><Button size="small" label="Search" /></RouterLink>
        <a v-if="n.rejected" :href="rejects" :download="`load-${load}.rejects.jsonl`">rejected rows with their reasons</a>
      </div>
    </template>
    <template v-else-if="job.state !== 'running'">
      <p v-if="job.error" class="bad" role="alert">{{ job.error }}</p>
      <div class="row">
        <Button size="small" label="Resume" icon="pi pi-play" data-resume @click="$emit('resume')" />
        <Button size="small" outlined label="Resume, setting bad rows aside" data-resume-aside @click="$emit('resume', 'set-aside')" />
        <span class="soft">Committed records stay. No row is loaded twice.</span>
      </div>
    </template>
  </section>
</template>

<style scoped>
section { margin-top: 1rem; display: grid; gap: 0.5rem; }
.sum { display: flex; gap: 0.9rem; align-items: center; }
.sum > div { display: flex; flex-direction: column; align-items: end; line-height: 1.25; }
.sum b { font-size: 1.2rem; font-weight: 600; }
.sign { font-size: 1.1rem; }
p { margin: 0; }
.good { color: var(--exact); }
</style>
