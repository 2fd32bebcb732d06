<script setup lang="ts">
/** What to do next with a collection: the steps of the job in their order, and which are done. */
import { computed } from 'vue'
import Button from 'primevue/button'
import { api } from '../api/client'
import { useQuery } from '../api/query'
import { quoted } from '../api/words'
import { useCollection } from './collection'
import CopyLine from './CopyLine.vue'

interface Step {
  name: string
  done: boolean
  /** Why to take the step now. */
  why: string
  to: string
  button: string
  icon: string
  command: string
}

const { collection: c } = useCollection()
const at = (tail: string) => `/c/${encodeURIComponent(c.value.name)}${tail}`
const sweeps = useQuery(() => [c.value.name, c.value.indexes.length], (signal) => api.sweeps(c.value.name, signal), { keep: true })
const steps = computed<Step[]>(() => {
  const name = quoted(c.value.name)
  const { columns, indexes, n_records } = c.value
  const vectors = Math.max(0, ...columns.map((v) => v.n_vectors))
  const ready = indexes.filter((i) => i.state === 'ready')
  const scan = `Searches scan all ${vectors.toLocaleString('en')} vectors now, which is exact.`
  return [
    { name: 'Load', done: n_records > 0, to: at('/load'), button: 'Load a file', icon: 'pi pi-upload', why: 'The collection holds no records. Load a file of records or vectors.', command: `zesty load ${name} FILE` },
    { name: 'Vectors', done: vectors > 0, to: columns.length ? at('/load') : at(''), button: columns.length ? 'Load vectors' : '', icon: 'pi pi-upload', why: columns.length ? 'No record has a vector, so searches find nothing. Load vectors, or encode the records below.' : 'The collection has no vector column. Add a column below.', command: columns.length ? `zesty load ${name} FILE` : `zesty column add ${name} meaning --encoder ENCODER --template '{FIELD}' --backfill` },
    { name: 'Index', done: ready.length > 0, to: at('/indexes'), button: 'Build an index', icon: 'pi pi-hammer', why: `${scan} An index makes them faster, at a recall that you choose.`, command: `zesty index build ${name} auto` },
    { name: 'Measure', done: ready.some((i) => sweeps.data.value?.some((s) => s.result.indexes.some((x) => x.name === i.name))), to: at('/tuning'), button: 'Measure recall', icon: 'pi pi-chart-line', why: 'The recall of your index on your own records is not known yet. A sweep measures it.', command: `zesty sweep run ${name} ${quoted(ready[0]?.name ?? 'INDEX')}` },
    { name: 'Serve', done: columns.some((v) => v.serving), to: at('/tuning'), button: 'Choose settings', icon: 'pi pi-lightbulb', why: 'An index is measured, but searches still scan. Choose the settings that answer searches.', command: `zesty serving ${name} --index ${quoted(ready[0]?.name ?? 'INDEX')}` },
  ]
})
const next = computed(() => steps.value.find((s) => !s.done) ?? null)
</script>

<template>
  <section v-if="sweeps.data.value || sweeps.failure.value" class="sheet next" data-next-step :data-step="next?.name ?? 'Search'" aria-label="What to do next">
    <ol class="row">
      <li v-for="s in steps" :key="s.name" :class="{ done: s.done, now: s === next }"><i :class="s.done ? 'pi pi-check-circle' : 'pi pi-circle'" aria-hidden="true" /> {{ s.name }}<span class="hidden">{{ s.done ? ', done' : '' }}</span></li>
    </ol>
    <p v-if="next">{{ next.why }}</p>
    <p v-else>An index answers searches. Search, add filters, and compare each answer with the exact one.</p>
    <div class="row">
      <RouterLink v-if="next?.button" :to="next.to"><Button size="small" :icon="next.icon" :label="next.button" tabindex="-1" /></RouterLink>
      <RouterLink v-if="steps[1]?.done" :to="at('/search')"><Button size="small" :outlined="!!next" icon="pi pi-search" label="Search" tabindex="-1" /></RouterLink>
      <RouterLink v-if="!next" :to="at('/tuning')"><Button size="small" outlined icon="pi pi-chart-line" label="Tune" tabindex="-1" /></RouterLink>
      <div class="command"><CopyLine :text="next?.command ?? `zesty search ${quoted(c.name)} 'TEXT' --compare`" what="command" /></div>
    </div>
  </section>
</template>

<style scoped>
.next { margin-top: 0.8rem; padding: 0.6rem 1rem; }
ol { list-style: none; margin: 0; padding: 0; gap: 1.2rem; color: var(--soft); }
li.done { color: var(--exact); }
li.now { color: var(--ink); font-weight: 600; }
p { margin: 0.4rem 0 0.5rem; }
.command { flex: 1; min-width: 18rem; }
.hidden { position: absolute; width: 1px; height: 1px; overflow: hidden; clip-path: inset(50%); }
</style>
