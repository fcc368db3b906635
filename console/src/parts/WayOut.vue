<script setup lang="ts">
// What can be done about a finding, done in place: with the question that is asked elsewhere, and
// through the same call.
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, onMounted, ref, watch } from 'vue'
import { get, lacks, post, type Job, type Judgement, type Key, type Page, type PoolUsage } from '../api'
import { count, size } from '../format'
import Vouch from '../pages/keys/Vouch.vue'
import Preview from '../pages/describe/Preview.vue'
import JobRun from './JobRun.vue'
import Modal from './Modal.vue'
import Trouble from './Trouble.vue'
import { callOf, wordOf, type Way } from './way'

const props = defineProps<{ way: Way }>()
const emit = defineEmits<{ close: [] }>()
const client = useQueryClient()
const name = computed(() => props.way.of.split(' ').slice(1).join(' '))
const says: Record<string, string> = {
  last: 'Stockade contacts the other upstreams first from now on. This records a revision.',
  refresh: 'Downloads the release metadata and verifies it.',
  probe: 'Measures every upstream of the source.',
  build: 'Builds and seals an edition. Lanes stay where they are.',
  sweep: 'Removes files that no edition uses, and damaged files.',
}
const paths: Record<string, string> = {
  refresh: `/sources/${name.value}/refresh`,
  probe: `/sources/${name.value}/probe`,
  build: `/mirrors/${name.value}/build`,
  sweep: '/pool/sweep',
}
const error = ref<unknown>(null)
const job = ref<Job | null>(null)
const ended = ref<Job | null>(null)
const goes = ref<PoolUsage['unheld'] | null>(null) // what would go
const would = ref<Judgement | null>(null)
// the key that is to be compared: of those that the source names, one that nobody decided about
const keys = useQuery({
  queryKey: ['keys'],
  queryFn: () => get<Page<Key>>('/keys'),
  enabled: computed(() => props.way.does === 'vouch'),
})
const key = ref<Key>() // stays what it is once it is found: it is decided about here
watch(
  keys.data,
  (all) =>
    (key.value ??= all?.items.find(
      (k) => !k.barred && k.needed_by.includes(name.value) && !k.vouched.some((v) => v.source === name.value),
    )),
  { immediate: true },
)
const order = () => ({ last: props.way.upstream })
onMounted(async () => {
  try {
    if (props.way.does === 'sweep') {
      const pool = await get<PoolUsage>('/pool')
      goes.value = {
        files: pool.unheld.files + pool.aside.files,
        bytes: pool.unheld.bytes + pool.aside.bytes,
      }
    }
    if (props.way.does === 'last')
      would.value = await post<Judgement>(`/sources/${name.value}/order`, { ...order(), look: true })
  } catch (e) {
    error.value = e
  }
})
async function go() {
  error.value = null
  try {
    if (props.way.does === 'last') {
      await post(`/sources/${name.value}/order`, order())
      close()
    } else job.value = await post<Job>(paths[props.way.does])
  } catch (e) {
    error.value = e
  }
}
function close() {
  emit('close')
  client.invalidateQueries()
}
</script>
<template>
  <template v-if="way.does === 'vouch'">
    <Vouch v-if="key" :of="key" :source="name" @close="close" />
    <Modal v-else-if="keys.data.value" open title="No key to compare" @close="close">
      <p>
        The keys of <b>{{ name }}</b> are not imported, or already decided. Import keys on the page
        <RouterLink to="/keys">Keys</RouterLink>.
      </p>
    </Modal>
  </template>
  <Modal
    v-else
    open
    :wide="way.does === 'last'"
    :title="`${wordOf(way)}: ${way.upstream ?? way.of}`"
    @close="close"
  >
    <p class="mb-3">{{ says[way.does] }}</p>
    <p v-if="way.does === 'sweep' && !error && !job">
      {{ goes ? `${count(goes.files, 'file')}, ${size(goes.bytes)}` : 'Counting …' }}
    </p>
    <Preview v-if="would" :of="would" />
    <JobRun v-if="job && !ended" :job="job" @end="ended = $event" />
    <p v-if="ended" role="status">
      Job {{ ended.id }} is {{ ended.state }}<template v-if="ended.problem">: {{ ended.problem }}</template>
    </p>
    <Trouble :error="error" class="mt-3" />
    <div class="mt-4 flex justify-end gap-2">
      <button class="btn" @click="close">{{ job ? 'Close' : 'Cancel' }}</button>
      <button
        v-if="!job"
        class="btn btn-go"
        :disabled="
          !!lacks(callOf(way)) ||
          (way.does === 'last' && !would?.recordable) ||
          (way.does === 'sweep' && !goes)
        "
        @click="go"
      >
        {{ wordOf(way) }}
      </button>
    </div>
  </Modal>
</template>
