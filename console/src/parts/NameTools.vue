<script setup lang="ts">
/** What is done with a collection as a whole: another name, a copy, a change of places, and dropping it. */
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'
import InputText from 'primevue/inputtext'
import Select from 'primevue/select'
import { useToast } from 'primevue/usetoast'
import { useAction } from '../api/action'
import { api, pathOf } from '../api/client'
import { useQuery } from '../api/query'
import { count, quoted, when } from '../api/words'
import EqualCommands from './EqualCommands.vue'
import FailureNote from './FailureNote.vue'
import { useCollection } from './collection'

type Deed = 'clone' | 'swap' | 'rename' | 'drop'
const DEEDS: Record<Deed, { title: string; about: string; label: string }> = {
  clone: { title: 'Clone', about: 'Copies records, saved searches and indexes under a new name, while others write. Change the clone, measure it, then swap.', label: 'Name of the clone' },
  swap: { title: 'Swap', about: 'The two change names at once, between two requests. Keys, applications and references keep to the names.', label: 'Swap with' },
  rename: { title: 'Rename', about: 'Fields that refer to it, keys, jobs and loads go with it. Applications have to use the new name.', label: 'New name' },
  drop: { title: 'Drop', about: 'Requests for it are refused from then on. It can be restored for some days, from the list of collections.', label: 'Type its name' },
}
const { collection } = useCollection()
const name = computed(() => collection.value.name)
const [router, toast] = [useRouter(), useToast()]
const deed = ref<Deed | null>(null)
const word = ref('')
watch(deed, () => (word.value = ''))
const others = useQuery(() => name.value, (signal) => api.collections(signal))
const choices = computed(() => (others.data.value ?? []).map((c) => c.name).filter((n) => n !== name.value))
const ready = computed(() => (deed.value === 'drop' ? word.value === name.value : word.value.trim() !== ''))
const to = (n: string) => router.push(`/c/${encodeURIComponent(n)}`)
const act = useAction(async () => {
  const other = word.value.trim()
  if (deed.value === 'clone') {
    await api.clone(name.value, other)
    toast.add({ severity: 'info', summary: `${name.value} is copied to ${other}`, detail: 'Jobs shows how far it is.', life: 6000 })
  } else if (deed.value === 'swap') {
    await api.swap(name.value, other)
    toast.add({ severity: 'success', summary: `${name.value} and ${other} have changed names`, life: 6000 })
    location.reload()
  } else if (deed.value === 'rename') {
    await api.rename(name.value, other)
    await to(other)
  } else {
    const gone = await api.drop(name.value)
    toast.add({ severity: 'success', summary: `${gone.name} is dropped`, detail: `It can be restored until ${when(gone.restorable_until)}.`, life: 8000 })
    await router.push('/')
  }
  deed.value = null
})
const call = computed(() => {
  const [n, w] = [quoted(name.value), quoted(word.value || 'NAME')]
  switch (deed.value) {
    case 'clone': return { zesty: `zesty collection clone ${n} ${w}`, method: 'POST', path: `${pathOf(name.value)}/clone`, body: { name: word.value } }
    case 'swap': return { zesty: `zesty collection swap ${n} ${w}`, method: 'POST', path: `${pathOf(name.value)}/swap`, body: { with: word.value } }
    case 'rename': return { zesty: `zesty collection rename ${n} ${w}`, method: 'PUT', path: `${pathOf(name.value)}/name`, body: { name: word.value } }
    default: return { zesty: `zesty collection drop ${n}`, method: 'DELETE', path: pathOf(name.value), body: undefined }
  }
})
</script>

<template>
  <div class="row">
    <Button v-for="(about, d) in DEEDS" :key="d" size="small" text :label="about.title" :severity="d === 'drop' ? 'danger' : undefined" :data-deed="d" @click="deed = d" />
  </div>
  <Dialog :visible="deed !== null" modal :header="deed ? `${DEEDS[deed].title} ${name}` : ''" :style="{ width: '34rem' }" @update:visible="deed = null">
    <form v-if="deed" @submit.prevent="act.run()">
      <p>{{ DEEDS[deed].about }}<template v-if="deed === 'drop'"> It holds {{ count(collection.n_records) }} records.</template></p>
      <div class="field">
        <label for="deed-word">{{ DEEDS[deed].label }}</label>
        <Select v-if="deed === 'swap'" v-model="word" input-id="deed-word" :options="choices" size="small" fluid />
        <InputText v-else id="deed-word" v-model="word" size="small" fluid autocomplete="off" :placeholder="deed === 'drop' ? name : deed === 'clone' ? `${name}-next` : ''" data-word />
      </div>
      <FailureNote v-if="act.failure.value" :failure="act.failure.value" :again="false" />
      <EqualCommands v-bind="call" />
      <div class="row gap"><Button type="submit" size="small" :label="DEEDS[deed].title" :severity="deed === 'drop' ? 'danger' : undefined" :disabled="!ready" :loading="act.busy.value" data-act /><Button size="small" text label="Not now" @click="deed = null" /></div>
    </form>
  </Dialog>
</template>

<style scoped>
p { margin: 0 0 0.6rem; }
</style>
