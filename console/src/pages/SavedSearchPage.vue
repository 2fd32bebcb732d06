<script setup lang="ts">
import { computed, defineAsyncComponent, onScopeDispose, reactive, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import Select from 'primevue/select'
import { useConfirm } from 'primevue/useconfirm'
import { useAction } from '../api/action'
import { api, savedPath } from '../api/client'
import { useQuery } from '../api/query'
import type { Observed, SavedVersion, SearchAnswer } from '../api/shapes'
import { count, micros, quoted, recallText, when } from '../api/words'
import { useCollection } from '../parts/collection'
import CopyLine from '../parts/CopyLine.vue'
import DefinitionEditor from '../parts/saved/DefinitionEditor.vue'
import EqualCommands from '../parts/EqualCommands.vue'
import FailureNote from '../parts/FailureNote.vue'
import QueryState from '../parts/QueryState.vue'
import HitList from '../parts/search/HitList.vue'
import { absent, asTexts, shownVersion, typed } from '../parts/saved/values'

const PulseChart = defineAsyncComponent(() => import('../charts/PulseChart.vue'))

const props = defineProps<{ saved: string }>()
const { collection } = useCollection()
const name = computed(() => collection.value.name)
const [route, router, confirm] = [useRoute(), useRouter(), useConfirm()]
const found = useQuery(() => [name.value, props.saved], (signal) => api.savedSearch(name.value, props.saved, signal), { keep: true })
const traffic = useQuery(() => [name.value, props.saved], (signal) => api.savedTraffic(name.value, props.saved, signal), { keep: true })
const again = window.setInterval(() => void traffic.refresh(), 10_000)
onScopeDispose(() => clearInterval(again))

const chosen = ref<number | null>(null)
const version = computed<SavedVersion | undefined>(() => found.data.value?.versions.find((v) => v.version === chosen.value) ?? (found.data.value ? shownVersion(found.data.value) : undefined))
const answers = computed(() => version.value?.version === found.data.value?.live)
const words = reactive<Record<string, string>>({})
for (const [key, value] of Object.entries(route.query)) if (typeof value === 'string') words[key] = value

const parameters = computed(() => Object.entries(version.value?.definition.parameters ?? {}))
const values = computed(() => Object.fromEntries(parameters.value.filter(([p]) => words[p]?.trim()).map(([p, about]) => [p, typed(about, (words[p] ?? '').trim())])))
const path = computed(() => savedPath(name.value, props.saved) + (answers.value ? '/search' : `/versions/${version.value?.version}/search`))
const pairs = computed(() => Object.entries(values.value).flatMap(([p, value]) => asTexts(value).map((text): [string, string] => [p, text])))
const url = computed(() => {
  const query = new URLSearchParams(pairs.value).toString()
  return `${path.value}${query ? `?${query}` : ''}`
})
const command = computed(() => {
  const given = pairs.value.map(([p, text]) => quoted(`${p}=${text}`))
  const way = answers.value ? 'ask' : 'try'
  return [`zesty saved ${way}`, quoted(name.value), quoted(props.saved), ...given, ...(answers.value ? [] : [`--version ${version.value?.version}`])].join(' ')
})

const answer = ref<SearchAnswer | null>(null)
const ask = useAction(async () => {
  await router.replace({ query: Object.fromEntries(Object.entries(words).filter(([, w]) => w.trim())) })
  answer.value = await api.askSaved(path.value, values.value)
  await traffic.refresh()
})
const edits = ref(false)
const text = ref('')
function edit() {
  text.value = JSON.stringify(version.value?.definition, null, 2)
  edits.value = true
}
watch(chosen, () => { answer.value = null; edits.value = false })
const save = useAction(async () => {
  const now = await api.saveSearch(name.value, props.saved, JSON.parse(text.value))
  edits.value = false
  await found.refresh()
  chosen.value = now.versions[0]?.version ?? null
})
const setLive = useAction(async (wanted: number) => {
  await api.setLiveVersion(name.value, props.saved, wanted)
  await found.refresh()
})
const withdraw = useAction(async () => {
  await api.withdrawSaved(name.value, props.saved)
  await found.refresh()
})
const remove = useAction(async () => {
  await api.removeSaved(name.value, props.saved)
  await router.push(`/c/${encodeURIComponent(name.value)}/saved`)
})
const sure = (event: Event, message: string, accept: () => void) =>
  confirm.require({ target: event.currentTarget as HTMLElement, message, accept, acceptLabel: 'Yes', rejectLabel: 'No' })
const none = new Set<string>()
const origin = window.location.origin
</script>

<template>
  <QueryState v-slot="{ data: s }" :query="found">
    <div class="row spread">
      <div>
        <h1><RouterLink :to="`/c/${encodeURIComponent(name)}/saved`">Saved searches</RouterLink> / {{ s.name }} <span v-if="s.live !== null" class="lampmark">version {{ s.live }} answers</span><span v-else class="tag">a draft</span></h1>
        <div class="soft">{{ version?.definition.description }}</div>
      </div>
      <Button size="small" text severity="danger" label="Remove" @click="sure($event, `Remove ${s.name} with all of its versions? Applications that ask it are refused from then on.`, () => void remove.run())" />
    </div>
    <p v-if="s.trouble" class="bad">The version that answers does not fit the collection any more: {{ s.trouble }}</p>
    <FailureNote v-for="a in [setLive, withdraw, remove].filter((x) => x.failure.value)" :key="a.failure.value!.message" :failure="a.failure.value!" :again="false" />
    <div class="two gap">
      <div>
        <form class="sheet" @submit.prevent="ask.run()">
          <div class="row spread">
            <strong>Parameters</strong>
            <Select :model-value="version?.version" :options="s.versions.map((v) => ({ v: v.version, l: `version ${v.version}${v.version === s.live ? ', answers' : ''}` }))" option-value="v" option-label="l" size="small" aria-label="Version" @update:model-value="chosen = $event" />
          </div>
          <div class="grid gap">
            <template v-for="[p, about] in parameters" :key="p">
              <label :for="`p-${p}`"><code>{{ p }}</code><div class="soft small">{{ version?.takes[p] }}, {{ absent(about) }}</div></label>
              <div>
                <Select v-if="about.enum && !about.items" v-model="words[p]" :options="about.enum.map(String)" :input-id="`p-${p}`" show-clear size="small" />
                <InputText v-else :id="`p-${p}`" v-model="words[p]" size="small" fluid :placeholder="about.items ? 'with commas between' : ''" />
                <div class="soft small">{{ about.description }}</div>
              </div>
            </template>
          </div>
          <p v-if="!parameters.length" class="soft">It takes none.</p>
          <Button type="submit" size="small" icon="pi pi-search" :label="answers ? 'Ask' : 'Try'" class="gap" :loading="ask.busy.value" data-ask />
        </form>
        <FailureNote v-if="ask.failure.value" :failure="ask.failure.value" :again="false" />
        <template v-if="answer">
          <p class="soft small">{{ answer.hits.length }} hits, {{ micros(answer.timing.total_us) }} in all, search {{ micros(answer.timing.search_us) }}, by {{ answer.via.index ?? 'the exact scan' }} ({{ answer.via.plan.strategy }})</p>
          <HitList :hits="answer.hits" :marked="none" mark-title="" :exact="answer.via.exact" @example="(key) => router.push({ path: `/c/${encodeURIComponent(name)}/search`, query: { example: key } })" />
        </template>
      </div>
      <div>
        <div class="sheet">
          <strong>Address</strong>
          <CopyLine :text="`${origin}${url}`" what="address" />
          <EqualCommands :zesty="command" method="POST" :path="path" :body="values" />
          <div class="soft small">A key for an application: <code>zesty key make NAME --scope ask --collection {{ name }} --search {{ s.name }}</code></div>
        </div>
        <QueryState v-slot="{ data: t }" :query="traffic">
          <dl class="cards gap" data-traffic>
            <div class="sheet"><dt>Asked, last hour</dt><dd>{{ count(t.searches) }}</dd></div>
            <div class="sheet"><dt>p50</dt><dd>{{ t.p50_us === null ? '–' : micros(t.p50_us) }}</dd></div>
            <div class="sheet"><dt>p99</dt><dd>{{ t.p99_us === null ? '–' : micros(t.p99_us) }}</dd></div>
            <div v-for="o in t.observed" :key="o.index" class="sheet wide"><dt>Recall, {{ o.index }}, 24 h</dt><dd class="approx">{{ recallText(o.recall_mean) }} <span>{{ recallText(o.recall_low) }} to {{ recallText(o.recall_high) }}, {{ count((o as Observed).searches) }} checked</span></dd></div>
          </dl>
          <div v-if="t.steps.length" class="sheet"><PulseChart :steps="t.steps" :step-s="t.step_s" /></div>
          <p v-if="!t.observed.length" class="soft small">No recall was observed: <RouterLink :to="`/c/${encodeURIComponent(name)}/watch`">Watch</RouterLink> turns that on.</p>
        </QueryState>
        <div class="sheet gap">
          <div class="row spread"><strong>Versions</strong><Button v-if="!edits" size="small" text icon="pi pi-pencil" label="Change into a new version" data-edit @click="edit" /></div>
          <ul class="versions">
            <li v-for="v in s.versions" :key="v.version">
              <b class="num">{{ v.version }}</b>
              <span>{{ when(v.made_at) }} <span class="soft">by {{ v.made_by }}</span></span>
              <span v-if="v.version === s.live"><span class="lampmark">answers</span> <Button class="slim" size="small" text label="Stop" @click="sure($event, `Let no version answer? Applications that ask ${s.name} are refused until one is made live.`, () => void withdraw.run())" /></span>
              <Button v-else class="slim" size="small" text :label="v.version < (s.live ?? 0) ? 'Go back to it' : 'Make it answer'" :loading="setLive.busy.value" :data-live="v.version" @click="setLive.run(v.version)" />
            </li>
          </ul>
          <form v-if="edits" @submit.prevent="save.run()">
            <DefinitionEditor v-model="text" />
            <div class="row gap"><Button type="submit" size="small" icon="pi pi-save" label="Save as a new version" :loading="save.busy.value" data-save /><Button size="small" text label="Not now" @click="edits = false" /></div>
            <FailureNote v-if="save.failure.value" :failure="save.failure.value" :again="false" />
          </form>
          <details v-else><summary class="soft small">Definition of version {{ version?.version }}</summary><pre class="mono">{{ JSON.stringify(version?.definition, null, 2) }}</pre></details>
        </div>
      </div>
    </div>
  </QueryState>
</template>

<style scoped>
.two { display: grid; grid-template-columns: minmax(0, 1fr) minmax(0, 1fr); gap: 1.2rem; align-items: start; }
@media (max-width: 900px) { .two { grid-template-columns: 1fr; } }
.grid { display: grid; grid-template-columns: minmax(0, 2fr) minmax(0, 3fr); gap: 0.6rem 1rem; align-items: start; }
.cards { display: grid; grid-template-columns: repeat(auto-fit, minmax(7.5rem, 1fr)); gap: 0.7rem; margin-bottom: 0.7rem; }
.cards > div { padding: 0.55rem 0.8rem; }
.wide { grid-column: span 2; }
dt { color: var(--soft); font-size: 0.88em; }
dd { margin: 0.1rem 0 0; font-size: 1.2em; font-weight: 600; font-variant-numeric: tabular-nums; }
dd span { font-size: 0.7em; font-weight: 400; color: var(--soft); }
.versions { list-style: none; margin: 0.3rem 0 0; padding: 0; max-height: 20rem; overflow-y: auto; }
.versions li { display: grid; grid-template-columns: 2rem minmax(0, 1fr) max-content; gap: 0.8rem; align-items: center; padding: 0.25rem 0; border-bottom: 1px solid var(--line); }
.versions li:last-child { border: 0; }
pre { margin: 0.4rem 0 0; white-space: pre-wrap; }
</style>
