<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { get, type Job, type Page } from '../../api'
import { span } from '../../format'
import Count from '../../parts/Count.vue'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import Findings from '../../parts/Findings.vue'
import JobRun from '../../parts/JobRun.vue'
import Loading from '../../parts/Loading.vue'
import Mark from '../../parts/Mark.vue'
import Modal from '../../parts/Modal.vue'
import Moment from '../../parts/Moment.vue'
import Take from '../../parts/Take.vue'
import Trouble from '../../parts/Trouble.vue'
const client = useQueryClient()
const route = useRoute()
const router = useRouter()
const state = computed({
  get: () => String(route.query.state ?? ''),
  set: (v) => router.replace({ query: { ...route.query, state: v || undefined } }),
})
const limit = ref(100)
const q = useQuery({
  queryKey: ['jobs', state, limit],
  queryFn: () => get<Page<Job>>(`/jobs?limit=${limit.value}&state=${state.value}`),
  placeholderData: (old: Page<Job> | undefined) => old,
})
const running = computed(() => (q.data.value?.items ?? []).filter((j) => j.state === 'running'))
const kinds: Record<Job['state'], 'good' | 'error' | 'warning' | 'busy' | 'none'> = {
  done: 'good',
  failed: 'error',
  stopped: 'none',
  interrupted: 'warning',
  running: 'busy',
}
const shown = ref<Job | null>(null)
const lasted = (j: Job) => (j.ended ? Date.parse(j.ended) - Date.parse(j.started) : undefined)
function took(j: Job) {
  const ms = lasted(j)
  if (ms === undefined) return '–'
  return ms < 10000 ? (ms / 1000).toFixed(1) + ' s' : span(ms / 1000)
}
const columns: Column<Job>[] = [
  { key: 'id', title: 'Job', num: true, value: (j) => j.id },
  { key: 'kind', title: 'Kind', value: (j) => j.kind },
  { key: 'object', title: 'Object', class: 'whitespace-nowrap', value: (j) => j.object },
  { key: 'state', title: 'State', value: (j) => j.state },
  { key: 'by', title: 'By', wide: true, value: (j) => j.by },
  { key: 'began', title: 'Started', value: (j) => j.started },
  { key: 'took', title: 'Duration', num: true, value: lasted },
  { key: 'findings', title: 'Findings', value: (j) => j.findings.length },
  { key: 'problem', title: 'Problem', class: 'max-w-80 max-[1199px]:max-w-44 truncate text-slate' },
]
</script>
<template>
  <div class="mb-4 flex items-center gap-3">
    <h1>Jobs</h1>
    <select v-model="state" class="field ml-auto !w-40" aria-label="State">
      <option value="">all states</option>
      <option v-for="s in Object.keys(kinds)" :key="s">{{ s }}</option>
    </select>
    <Take name="jobs" :rows="q.data.value?.items ?? []" :path="'/jobs?state=' + state" />
  </div>
  <Trouble :error="q.error.value" class="mb-4" />
  <Loading v-if="q.isPending.value" />
  <div v-for="j in running" :key="j.id" class="mb-3">
    <div class="mb-1">{{ j.kind }} of {{ j.object }}</div>
    <JobRun :job="j" @end="client.invalidateQueries()" />
  </div>
  <p v-if="q.data.value?.next" class="mb-2 text-slate">
    Shows the newest {{ q.data.value.items.length }}.
    <button v-if="limit < 1000" class="text-tide underline" @click="limit = 1000">Show more</button>
    <template v-else>For older jobs, download the list.</template>
  </p>
  <DataTable
    v-if="q.data.value"
    :id="(j) => j.id"
    :columns="columns"
    :rows="q.data.value.items"
    empty="No jobs yet. Refreshing a source or building a mirror starts one."
  >
    <template #state="{ row: j }"><Mark :kind="kinds[j.state]" :word="j.state" /></template>
    <template #began="{ row: j }"><Moment :at="j.started" /></template>
    <template #took="{ row: j }">{{ took(j) }}</template>
    <template #findings="{ row: j }">
      <button v-if="j.findings.length" class="hover:underline" @click="shown = j">
        <Count :findings="j.findings" /></button
      ><span v-else class="text-slate">–</span>
    </template>
    <template #problem="{ row: j }"
      ><button v-if="j.problem" class="max-w-full truncate hover:underline" @click="shown = j">
        {{ j.problem }}
      </button></template
    >
  </DataTable>
  <Modal
    v-if="shown"
    open
    wide
    :title="`Job ${shown.id}: ${shown.kind} of ${shown.object}`"
    @close="shown = null"
    ><p v-if="shown.problem" class="mb-3">{{ shown.problem }}</p>
    <div class="panel max-h-[60vh] overflow-auto"><Findings :findings="shown.findings" /></div
  ></Modal>
</template>
