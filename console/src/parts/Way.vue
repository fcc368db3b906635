<script setup lang="ts">
// What can be done about a finding, as a button: done in place, with the question that is asked
// elsewhere, and through the same call.
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import {
  get,
  lacks,
  post,
  type Does,
  type Finding,
  type Job,
  type Judgement,
  type Key,
  type Page,
  type PoolUsage,
} from '../api'
import { count, size } from '../format'
import Vouch from '../pages/keys/Vouch.vue'
import Preview from '../pages/describe/Preview.vue'
import Act from './Act.vue'
import JobRun from './JobRun.vue'
import Modal from './Modal.vue'
import Trouble from './Trouble.vue'

const props = defineProps<{ of: Finding }>()
const client = useQueryClient()
const way = computed(() => props.of.way!)
const name = computed(() => way.value.of.split(' ').slice(1).join(' '))
const does = computed<Does>(
  () =>
    (({ last: 'order', sweep: 'sweepPool' }) as Record<string, Does>)[way.value.does] ??
    (way.value.does as Does),
)
const words: Record<string, [string, string]> = {
  vouch: ['Compare and vouch', ''],
  last: ['Put it last', 'The other upstreams are asked first from now on. It is recorded as a revision.'],
  refresh: ['Refresh', 'Its upstreams are asked for the root, which is verified.'],
  probe: ['Probe', 'Every upstream of it is measured.'],
  build: ['Build', 'Its sources are asked, and an edition is built and sealed. Lanes stay where they are.'],
  sweep: ['Free space', 'What no edition holds, and what was found damaged, goes from the pool.'],
}
const paths: Record<string, string> = {
  refresh: `/sources/${name.value}/refresh`,
  probe: `/sources/${name.value}/probe`,
  build: `/mirrors/${name.value}/build`,
  sweep: '/pool/sweep',
}
const open = ref(false)
const error = ref<unknown>(null)
const job = ref<Job | null>(null)
const ended = ref<Job | null>(null)
const goes = ref<PoolUsage['unheld'] | null>(null) // what would go
const would = ref<Judgement | null>(null)
// the key that is to be compared: of those that the source names, one that nobody decided about
const keys = useQuery({
  queryKey: ['keys'],
  queryFn: () => get<Page<Key>>('/keys'),
  enabled: computed(() => open.value && way.value.does === 'vouch'),
})
const key = computed(() =>
  keys.data.value?.items.find(
    (k) => !k.barred && k.needed_by.includes(name.value) && !k.vouched.some((v) => v.source === name.value),
  ),
)
const order = () => ({ last: way.value.upstream })
async function ask() {
  open.value = true
  error.value = job.value = ended.value = would.value = goes.value = null
  try {
    if (way.value.does === 'sweep') {
      const pool = await get<PoolUsage>('/pool')
      goes.value = {
        files: pool.unheld.files + pool.aside.files,
        bytes: pool.unheld.bytes + pool.aside.bytes,
      }
    }
    if (way.value.does === 'last')
      would.value = await post<Judgement>(`/sources/${name.value}/order`, { ...order(), look: true })
  } catch (e) {
    error.value = e
  }
}
async function go() {
  error.value = null
  try {
    if (way.value.does === 'last') {
      await post(`/sources/${name.value}/order`, order())
      close()
    } else job.value = await post<Job>(paths[way.value.does])
  } catch (e) {
    error.value = e
  }
}
function close() {
  open.value = false
  client.invalidateQueries()
}
</script>
<template>
  <RouterLink
    v-if="way.does === 'add'"
    class="btn !h-6"
    :to="{ path: '/describe', query: { edit: 'mirror/' + name, way: 'source ' + way.source } }"
    >Add {{ way.source }} to it</RouterLink
  >
  <Act v-else :does="does" class="!h-6" dense @click="ask">{{ words[way.does]?.[0] ?? way.does }}</Act>
  <template v-if="open">
    <template v-if="way.does === 'vouch'">
      <Vouch v-if="key" :of="key" :source="name" @close="close" />
      <Modal v-else-if="keys.data.value" open title="There is no key to compare" @close="close">
        <p>
          No key that <b>{{ name }}</b> names is here and undecided: bring it in on the page of
          <RouterLink to="/keys">keys</RouterLink>.
        </p>
      </Modal>
    </template>
    <Modal
      v-else
      open
      :wide="way.does === 'last'"
      :title="`${words[way.does]?.[0]}: ${way.upstream ?? way.of}`"
      @close="close"
    >
      <p class="mb-3">{{ words[way.does]?.[1] }}</p>
      <p v-if="way.does === 'sweep' && !error && !job">
        {{ goes ? `${count(goes.files, 'file')}, ${size(goes.bytes)}` : 'What that is, is being counted …' }}
      </p>
      <Preview v-if="would" :of="would" />
      <JobRun v-if="job && !ended" :job="job" @end="ended = $event" />
      <p v-if="ended" role="status">
        Job {{ ended.id }} is {{ ended.state }}<template v-if="ended.problem">: {{ ended.problem }}</template>
      </p>
      <Trouble :error="error" class="mt-3" />
      <div class="mt-4 flex justify-end gap-2">
        <button class="btn" @click="close">{{ job ? 'Close' : 'Leave it' }}</button>
        <button
          v-if="!job"
          class="btn btn-go"
          :disabled="
            !!lacks(does) || (way.does === 'last' && !would?.recordable) || (way.does === 'sweep' && !goes)
          "
          @click="go"
        >
          {{ words[way.does]?.[0] }}
        </button>
      </div>
    </Modal>
  </template>
</template>
