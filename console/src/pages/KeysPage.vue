<script setup lang="ts">
import { computed, ref } from 'vue'
import Button from 'primevue/button'
import Checkbox from 'primevue/checkbox'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import InputNumber from 'primevue/inputnumber'
import InputText from 'primevue/inputtext'
import MultiSelect from 'primevue/multiselect'
import { useConfirm } from 'primevue/useconfirm'
import { useAction } from '../api/action'
import { api } from '../api/client'
import { useQuery } from '../api/query'
import type { AuditEntry, Key, KeyRequest, NewKey, Permit, Scope } from '../api/shapes'
import { bytes, quoted, when } from '../api/words'
import CopyLine from '../parts/CopyLine.vue'
import EqualCommands from '../parts/EqualCommands.vue'
import FailureNote from '../parts/FailureNote.vue'
import QueryState from '../parts/QueryState.vue'

const SCOPES: [Scope, string][] = [
  ['ask', 'ask saved searches'],
  ['search', 'search; see fields and their values'],
  ['read', 'read and export records'],
  ['write', 'write, change and delete records'],
  ['tune', 'build and measure indexes'],
  ['manage', 'manage collections, keys, encoders'],
]
const DAY_MS = 86_400_000

const keys = useQuery(() => 0, api.keys)
const collections = useQuery(() => 0, api.collections)
const before = ref<number[]>([])
const audit = useQuery(() => before.value.at(-1), (signal) => api.audit(before.value.at(-1), signal), { keep: true })
const confirm = useConfirm()

const name = ref('')
const scopes = ref<Scope[]>(['search'])
const over = ref<string[]>([])
const filter = ref('')
const fixed = ref('')
const prefix = ref('')
const days = ref<number | null>(null)
const asks = ref<string[]>([])
/** Saved searches that answer, of the chosen collections: what a key that may only ask can be limited to. */
const saved = useQuery(() => over.value.join(), async (signal) => {
  const lists = await Promise.all(over.value.map((c) => api.savedSearches(c, signal)))
  return [...new Set(lists.flat().filter((s) => s.live !== null).map((s) => s.name))]
}, { keep: true })
const onlyAsks = computed(() => scopes.value.length === 1 && scopes.value[0] === 'ask')
/** The one time that a secret is shown. */
const made = ref<NewKey | null>(null)

function valueOf(text: string): unknown {
  try {
    return JSON.parse(text)
  } catch {
    return text
  }
}
const values = computed(() => {
  const pairs = fixed.value.split(',').map((pair) => pair.trim()).filter(Boolean)
  return Object.fromEntries(pairs.map((pair) => [pair.split('=')[0] ?? '', valueOf(pair.split('=').slice(1).join('='))]))
})
const body = computed<KeyRequest>(() => ({
  name: name.value,
  scopes: SCOPES.map(([scope]) => scope).filter((scope) => scopes.value.includes(scope)),
  ...(over.value.length ? { collections: over.value } : {}),
  ...(filter.value.trim() ? { filter: filter.value.trim() } : {}),
  ...(Object.keys(values.value).length ? { values: values.value } : {}),
  ...(prefix.value ? { key_prefix: prefix.value } : {}),
  ...(onlyAsks.value && asks.value.length ? { searches: asks.value } : {}),
  ...(days.value ? { expires_at: new Date(Date.now() + days.value * DAY_MS).toISOString() } : {}),
}))
const command = computed(() =>
  [
    `zesty key make ${quoted(name.value || 'NAME')} --scope ${body.value.scopes.join(',') || 'SCOPES'}`,
    over.value.length ? `--collection ${quoted(over.value.join(','))}` : '',
    filter.value.trim() ? `--filter ${quoted(filter.value.trim())}` : '',
    ...Object.entries(values.value).map(([field, value]) => `--value ${quoted(`${field}=${typeof value === 'string' ? value : JSON.stringify(value)}`)}`),
    prefix.value ? `--key-prefix ${quoted(prefix.value)}` : '',
    onlyAsks.value && asks.value.length ? `--search ${quoted(asks.value.join(','))}` : '',
    days.value ? `--ends ${days.value}d` : '',
  ].filter(Boolean).join(' '),
)

const make = useAction(async () => {
  made.value = await api.makeKey(body.value)
  name.value = ''
  await Promise.all([keys.refresh(), audit.refresh()])
})
const rotate = useAction(async (key: string) => {
  made.value = await api.rotateKey(key, DAY_MS / 1000)
  await Promise.all([keys.refresh(), audit.refresh()])
})
const remove = useAction(async (key: string) => {
  await api.removeKey(key)
  await Promise.all([keys.refresh(), audit.refresh()])
})
function ask(event: Event, key: string, what: 'rotate' | 'remove') {
  confirm.require({
    target: event.currentTarget as HTMLElement,
    message: what === 'rotate' ? `Give ${key} a new secret? The one before stays good for a day.` : `Remove ${key}? Its users are refused from then on.`,
    acceptLabel: what === 'rotate' ? 'Rotate' : 'Remove',
    rejectLabel: 'Keep',
    accept: () => void (what === 'rotate' ? rotate : remove).run(key),
  })
}
const bound = (p: Permit) => [p.filter, ...Object.entries(p.values).map(([f, v]) => `sets ${f} = ${JSON.stringify(v)}`), p.key_prefix && `keys begin with ${p.key_prefix}`, p.searches && `asks ${p.searches.join(', ')}`, p.requests_per_s && `${p.requests_per_s} requests a second`, p.body_bytes && `bodies up to ${bytes(p.body_bytes)}`].filter(Boolean).join('; ')
const ended = (p: Permit) => !!p.expires_at && new Date(p.expires_at).getTime() <= Date.now()
const failures = computed(() => [make.failure.value, rotate.failure.value, remove.failure.value].filter((f) => f !== null))
</script>

<template>
  <h1>Keys</h1>
  <p class="soft none">What applications and people come in with. A key with a filter sees only the records that the filter allows.</p>
  <div v-if="made" class="sheet gap" role="status" data-made>
    <div class="row spread"><b>The secret of {{ made.name }}. It is shown this once; only its hash is kept.</b><Button size="small" text label="Done" @click="made = null" /></div>
    <CopyLine :text="made.key" what="secret" />
    <div v-if="made.old_secret_ends_at" class="soft small">The secret before stays good until {{ when(made.old_secret_ends_at) }} UTC.</div>
  </div>
  <FailureNote v-for="f in failures" :key="f.message" :failure="f" :again="false" />
  <QueryState v-slot="{ data }" :query="keys">
    <DataTable :value="data" data-key="permit.name" size="small" scrollable class="gap" data-keys>
      <Column header="Key"><template #body="{ data: k }: { data: Key }"><b class="nowrap">{{ k.permit.name }}</b></template></Column>
      <Column header="May"><template #body="{ data: k }: { data: Key }"><span v-for="s in k.permit.scopes" :key="s" class="tag word">{{ s }}</span></template></Column>
      <Column header="Over"><template #body="{ data: k }: { data: Key }">{{ k.permit.collections?.join(', ') ?? 'all collections' }}</template></Column>
      <Column header="Bound to"><template #body="{ data: k }: { data: Key }"><span class="mono small">{{ bound(k.permit) }}</span></template></Column>
      <Column header="Ends"><template #body="{ data: k }: { data: Key }"><span class="nowrap" :class="{ bad: ended(k.permit) }">{{ k.permit.expires_at ? when(k.permit.expires_at) : 'never' }}</span><div v-if="k.old_secret_ends_at" class="soft small">old secret until {{ when(k.old_secret_ends_at) }}</div></template></Column>
      <Column header="Last used"><template #body="{ data: k }: { data: Key }"><span class="nowrap">{{ k.last_used_at ? when(k.last_used_at) : 'never' }}</span><div v-if="k.last_used_from" class="soft small">from {{ k.last_used_from }}</div></template></Column>
      <Column header="Made"><template #body="{ data: k }: { data: Key }"><span class="nowrap">{{ when(k.created_at) }}</span><div v-if="k.created_by" class="soft small">by {{ k.created_by }}</div></template></Column>
      <Column><template #body="{ data: k }: { data: Key }"><span class="nowrap"><Button size="small" text class="slim" label="Rotate" @click="ask($event, k.permit.name, 'rotate')" /><Button size="small" text class="slim" severity="danger" label="Remove" @click="ask($event, k.permit.name, 'remove')" /></span></template></Column>
    </DataTable>
  </QueryState>

  <form class="sheet gap" @submit.prevent="make.run()">
    <h2>Make a key</h2>
    <div class="row end">
      <div class="field"><label for="key-name">Name</label><InputText id="key-name" v-model="name" size="small" placeholder="northern-app" /></div>
      <div class="field"><label for="key-over">Over</label><MultiSelect v-model="over" input-id="key-over" :options="collections.data.value?.map((c) => c.name) ?? []" placeholder="all collections" size="small" class="wide" /></div>
      <div v-if="onlyAsks && over.length" class="field"><label for="key-asks">Saved searches</label><MultiSelect v-model="asks" input-id="key-asks" :options="saved.data.value ?? []" placeholder="all that answer" size="small" class="wide" /></div>
      <div class="field"><label for="key-days">Ends in days</label><InputNumber v-model="days" input-id="key-days" :min="1" :max="3660" size="small" placeholder="never" input-class="narrow num" /></div>
    </div>
    <div class="row scopes" role="group" aria-label="May">
      <label v-for="[scope, about] in SCOPES" :key="scope" class="row one"><Checkbox v-model="scopes" :value="scope" :input-id="`scope-${scope}`" /><span><b>{{ scope }}</b><span class="soft small about">{{ about }}</span></span></label>
    </div>
    <div class="row end">
      <div class="field grow"><label for="key-filter">Bound to the filter (CQL2)</label><InputText id="key-filter" v-model="filter" size="small" fluid class="mono" placeholder="none: sees all records" /></div>
      <div class="field"><label for="key-values">Sets in every record</label><InputText id="key-values" v-model="fixed" size="small" class="mono" placeholder="field=value, ..." /></div>
      <div class="field"><label for="key-prefix">Record keys begin with</label><InputText id="key-prefix" v-model="prefix" size="small" class="mono" placeholder="any" /></div>
      <Button type="submit" size="small" icon="pi pi-key" label="Make key" :disabled="!name || !scopes.length" :loading="make.busy.value" data-make-key />
    </div>
    <EqualCommands :zesty="command" method="POST" path="/api/keys" :body="body" />
  </form>

  <h2 class="gap">What was done</h2>
  <QueryState v-slot="{ data }" :query="audit">
    <DataTable :value="data.entries" data-key="id" size="small" scrollable data-audit>
      <Column header="When"><template #body="{ data: e }: { data: AuditEntry }"><span class="nowrap">{{ when(e.at) }}</span></template></Column>
      <Column header="Key" field="key" />
      <Column header="Did"><template #body="{ data: e }: { data: AuditEntry }"><span class="mono small">{{ e.method }} {{ e.path }}</span></template></Column>
      <Column header="Status" class="num"><template #body="{ data: e }: { data: AuditEntry }"><span :class="{ bad: e.status >= 400 }">{{ e.status }}</span></template></Column>
      <Column header="From" field="from" />
      <Column header="Request"><template #body="{ data: e }: { data: AuditEntry }"><span class="mono small soft">{{ e.request_id }}</span></template></Column>
    </DataTable>
    <div class="row gap">
      <Button v-if="before.length" size="small" text label="Newer" @click="before = before.slice(0, -1)" />
      <Button v-if="data.next" size="small" text label="Older" @click="before = [...before, data.next]" />
    </div>
  </QueryState>
</template>

<style scoped>
.end { align-items: end; }
.word { margin-right: 0.25rem; }
.scopes { gap: 1.4rem; margin: 0.7rem 0; }
.one { gap: 0.4rem; align-items: start; flex-wrap: nowrap; }
.about { display: block; }
.grow { flex: 1; min-width: 18rem; }
.wide { min-width: 14rem; }
h2 { margin-top: 0; }
h2.gap { margin-top: 1.4rem; }
:deep(.narrow) { width: 6rem; }
</style>
