<script setup lang="ts">
// One change to what is described, done in place: shown first, recorded as a revision, and then
// built, which is what makes an edition of it.
import { useQueryClient } from '@tanstack/vue-query'
import { onMounted, ref } from 'vue'
import { lacks, post, type Amendment, type Job, type Judgement } from '../api'
import Preview from '../pages/describe/Preview.vue'
import Findings from './Findings.vue'
import JobRun from './JobRun.vue'
import Lack from './Lack.vue'
import Modal from './Modal.vue'
import Trouble from './Trouble.vue'

// mirror is what is built then.
const props = defineProps<{ of: Amendment; title: string; mirror: string }>()
const emit = defineEmits<{ close: [] }>()
const client = useQueryClient()
const would = ref<Judgement | null>(null)
const done = ref<Judgement | null>(null)
const job = ref<Job | null>(null)
const ended = ref<Job | null>(null)
const error = ref<unknown>(null)
async function attempt(act: () => Promise<unknown>) {
  error.value = null
  try {
    await act()
  } catch (e) {
    error.value = e
  }
}
onMounted(() =>
  attempt(async () => {
    would.value = await post<Judgement>('/definitions/amend', { ...props.of, look: true })
  }),
)
const record = () =>
  attempt(async () => {
    done.value = await post<Judgement>('/definitions/amend', props.of)
  })
const build = () =>
  attempt(async () => {
    job.value = await post<Job>(`/mirrors/${props.mirror}/build`)
  })
function close() {
  emit('close')
  if (done.value) client.invalidateQueries()
}
</script>
<template>
  <Modal open wide :title="title" @close="close">
    <template v-if="!done">
      <p class="mb-3">This records a new revision, which you can undo. Lanes stay where they are.</p>
      <template v-if="would">
        <Preview :of="would" />
        <div v-if="!would.recordable" class="panel mt-3">
          <Findings :findings="would.findings.filter((f) => f.severity === 'error')" />
        </div>
      </template>
      <p v-else-if="!error" class="text-slate">Computing the changes …</p>
      <Lack does="amend" what="Recording it" />
    </template>
    <p v-else role="status">
      Recorded as revision {{ done.revision }}. Build the mirror to put it into an edition.
    </p>
    <JobRun v-if="job && !ended" :job="job" class="mt-3" @end="ended = $event" />
    <p v-if="ended" role="status" class="mt-3">
      Job {{ ended.id }} is {{ ended.state }}<template v-if="ended.problem">: {{ ended.problem }}</template>
    </p>
    <Trouble :error="error" class="mt-3" />
    <div class="mt-4 flex justify-end gap-2">
      <button class="btn" @click="close">{{ done ? 'Close' : 'Cancel' }}</button>
      <button
        v-if="!done"
        class="btn btn-go"
        :disabled="!!lacks('amend') || !would?.recordable"
        @click="record"
      >
        Save
      </button>
      <button v-else-if="!job" class="btn btn-go" :disabled="!!lacks('build')" @click="build">
        Build {{ mirror }}
      </button>
    </div>
  </Modal>
</template>
