<script setup lang="ts">
/** One file: dropped or chosen, sent with progress, looked into. */
import { computed, ref, shallowRef } from 'vue'
import Button from 'primevue/button'
import ProgressBar from 'primevue/progressbar'
import { useAction } from '../api/action'
import { api } from '../api/client'
import type { Inspection, Upload } from '../api/shapes'
import { bytes, count } from '../api/words'
import FailureNote from './FailureNote.vue'

const props = defineProps<{ label: string; hint: string; unread?: boolean; mark: string }>()
const emit = defineEmits<{ ready: [file: Upload, found: Inspection | null]; gone: [] }>()
const file = shallowRef<Upload | null>(null)
const found = shallowRef<Inspection | null>(null)
const sent = ref(0)
const over = ref(false)
const input = ref<HTMLInputElement | null>(null)
const percent = computed(() => (file.value?.bytes ? Math.round((100 * sent.value) / file.value.bytes) : 0))

const take = useAction(async (chosen: File | undefined) => {
  if (!chosen) return
  found.value = null
  try {
    // An upload that broke off continues where it stopped.
    const begun = (await api.files()).find((f) => f.name === chosen.name && f.bytes === chosen.size && !f.complete)
    file.value = begun ?? (await api.announce(chosen.name, chosen.size))
    sent.value = file.value.received
    file.value = await api.upload(chosen, file.value, (n) => (sent.value = n))
    if (!props.unread) found.value = await api.inspect(file.value.id)
  } catch (error) {
    file.value = null
    throw error
  }
  emit('ready', file.value, found.value)
})
function drop(event: DragEvent) {
  over.value = false
  void take.run(event.dataTransfer?.files[0])
}
const forget = useAction(async () => {
  const gone = file.value
  file.value = null
  found.value = null
  emit('gone')
  if (gone) await api.forget(gone.id)
})
</script>

<template>
  <div class="drop" :class="{ over }" :data-drop="mark" @dragover.prevent="over = true" @dragleave="over = false" @drop.prevent="drop">
    <input ref="input" type="file" hidden :data-file="mark" :aria-label="label" @change="take.run(($event.target as HTMLInputElement).files?.[0])" />
    <template v-if="!file">
      <Button size="small" outlined icon="pi pi-upload" :label="label" @click="input?.click()" />
      <span class="soft small">{{ hint }}</span>
    </template>
    <template v-else-if="!file.complete">
      <span>{{ file.name }}</span>
      <ProgressBar :value="percent" aria-label="Sent" style="height: 0.7rem; flex: 1" :show-value="false" />
      <span class="num soft">{{ bytes(sent) }} of {{ bytes(file.bytes ?? 0) }}</span>
    </template>
    <template v-else>
      <i class="pi pi-file soft" aria-hidden="true" /><strong>{{ file.name }}</strong>
      <span class="soft">{{ bytes(file.received) }}<template v-if="found?.n_rows != null">, {{ count(found.n_rows) }} rows</template></span>
      <Button size="small" text icon="pi pi-times" aria-label="Take another file" @click="forget.run()" />
    </template>
  </div>
  <FailureNote v-if="take.failure.value" :failure="take.failure.value" :again="false" />
  <FailureNote v-if="forget.failure.value" :failure="forget.failure.value" :again="false" />
</template>

<style scoped>
.drop { display: flex; gap: 0.7rem; align-items: center; border: 1px dashed var(--line); border-radius: 5px; padding: 0.6rem 0.8rem; min-height: 3.2rem; background: var(--sheet); }
.over { border-color: var(--p-primary-color); background: var(--tint); }
</style>
