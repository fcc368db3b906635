<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { get, type Job, type Page } from '../api'
import { span } from '../format'
import Count from '../parts/Count.vue'
import Findings from '../parts/Findings.vue'
import JobRun from '../parts/JobRun.vue'
import Mark from '../parts/Mark.vue'
import Modal from '../parts/Modal.vue'
import Moment from '../parts/Moment.vue'
import Take from '../parts/Take.vue'
import Trouble from '../parts/Trouble.vue'
const client = useQueryClient()
const q = useQuery({
  queryKey: ['jobs'],
  queryFn: () => get<Page<Job>>('/jobs?limit=100'),
  refetchInterval: 3000,
})
const running = computed(() => (q.data.value?.items ?? []).filter((j) => j.state === 'running'))
const kinds: Record<string, 'good' | 'error' | 'warning' | 'busy' | 'none'> = {
  done: 'good',
  failed: 'error',
  stopped: 'none',
  interrupted: 'warning',
  running: 'busy',
}
const shown = ref<Job | null>(null)
const took = (j: Job) =>
  !j.ended
    ? '–'
    : ((ms) => (ms < 10000 ? (ms / 1000).toFixed(1) + ' s' : span(ms / 1000)))(
        Date.parse(j.ended) - Date.parse(j.started),
      )
</script>
<template>
  <div class="mb-4 flex items-center gap-3">
    <h1>Jobs</h1>
    <Take class="ml-auto" name="jobs" :rows="q.data.value?.items ?? []" />
  </div>
  <Trouble :error="q.error.value" class="mb-4" />
  <div v-for="j in running" :key="j.id" class="mb-3">
    <div class="mb-1">{{ j.kind }} of {{ j.object }}</div>
    <JobRun :job="j" @end="client.invalidateQueries()" />
  </div>
  <div v-if="q.data.value" class="panel overflow-x-auto">
    <table v-if="q.data.value.items.length" class="grid-table">
      <thead>
        <tr>
          <th class="num">Job</th>
          <th>Kind</th>
          <th>Object</th>
          <th>State</th>
          <th>By</th>
          <th>Began</th>
          <th class="num">Took</th>
          <th>Findings</th>
          <th>Problem</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="j in q.data.value.items" :key="j.id">
          <td class="num">{{ j.id }}</td>
          <td>{{ j.kind }}</td>
          <td>{{ j.object }}</td>
          <td><Mark :kind="kinds[j.state]" :word="j.state" /></td>
          <td>{{ j.by }}</td>
          <td><Moment :at="j.started" /></td>
          <td class="num">{{ took(j) }}</td>
          <td>
            <button v-if="j.findings.length" class="hover:underline" @click="shown = j">
              <Count :findings="j.findings" /></button
            ><span v-else class="text-slate">–</span>
          </td>
          <td class="max-w-80 truncate text-slate" :title="j.problem">{{ j.problem }}</td>
        </tr>
      </tbody>
    </table>
    <p v-else class="px-3 py-3 text-slate">
      No job was run yet. Refreshing a source or building a mirror is one.
    </p>
  </div>
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
