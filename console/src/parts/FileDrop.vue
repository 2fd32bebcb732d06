<script setup lang="ts">
/** One file: dropped or chosen, sent with progress, looked into. */
import { computed, ref, shallowRef } from 'vue'
import Button from 'primevue/button'
import ProgressBar from 'primevue/progressbar'
import { api, type Refusal } from '../api/client'
import type { Inspection, UploadedFile } from '../api/shapes'
import { bytes, count } from '../api/words'
import FailureNote from './FailureNote.vue'

const props = defineProps<{ label: string; hint: string; unread?: boolean; mark: string }>()
const emit = defineEmits<{ ready: [file: UploadedFile, found: Inspection | null]; gone: [] }>()
const file = shallowRef<UploadedFile | null>(null)
const found = shallowRef<Inspection | null>(null)
const sent = ref(0)
const failure = shallowRef<Refusal | null>(null)
const over = ref(false)
const input = ref<HTMLInputElement | null>(null)
const percent = computed(() => (file.value?.bytes ? Math.round((100 * sent.value) / file.value.bytes) : 0))

async function take(chosen: File | undefined) {
  if (!chosen) return
  failure.value = null
  found.value = null
  try {
    // What broke off before goes on where it stopped.
    const begun = (await api.files()).find((f) => f.name === chosen.name && f.bytes === chosen.size && !f.complete)
    file.value = begun ?? (await api.announce(chosen.name, chosen.size))
    sent.value = file.value.received
    file.value = await api.upload(chosen, file.value, (n) => (sent.value = n))
    if (!props.unread) found.value = await api.inspect(file.value.id)
    emit('ready', file.value, found.value)
  } catch (error) {
    failure.value = error as Refusal
    file.value = null
  }
}
function drop(event: DragEvent) {
  over.value = false
  void take(event.dataTransfer?.files[0])
}
function forget() {
  if (file.value) void api.forget(file.value.id).catch(() => undefined)
  file.value = null
  found.value = null
  emit('gone')
}
</script>

<template>
  <div class="drop" :class="{ over }" :data-drop="mark" @dragover.prevent="over = true" @dragleave="over = false" @drop.prevent="drop">
    <input ref="input" type="file" hidden :data-file="mark" @change="take(($event.target as HTMLInputElement).files?.[0])" />
    <template v-if="!file">
      <Button size="small" outlined icon="pi pi-upload" :label="label" @click="input?.click()" />
      <span class="soft small">{{ hint }}</span>
    </template>
    <template v-else-if="!file.complete">
      <span>{{ file.name }}</span>
      <ProgressBar :value="percent" style="height: 0.7rem; flex: 1" :show-value="false" />
      <span class="num soft">{{ bytes(sent) }} of {{ bytes(file.bytes ?? 0) }}</span>
    </template>
    <template v-else>
      <i class="pi pi-file soft" /><strong>{{ file.name }}</strong>
      <span class="soft">{{ bytes(file.received) }}<template v-if="found?.n_rows != null">, {{ count(found.n_rows) }} rows</template></span>
      <Button size="small" text icon="pi pi-times" aria-label="Take another file" @click="forget" />
    </template>
  </div>
  <FailureNote v-if="failure" :failure="failure" :again="false" />
</template>

<style scoped>
.drop { display: flex; gap: 0.7rem; align-items: center; border: 1px dashed var(--line); border-radius: 5px; padding: 0.6rem 0.8rem; min-height: 3.2rem; background: var(--sheet); }
.over { border-color: var(--p-primary-color); background: var(--tint); }
.small { font-size: 0.9em; }
</style>
