<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { get, type Page, type Source } from '../api'
import Count from '../parts/Count.vue'
import Moment from '../parts/Moment.vue'
import Take from '../parts/Take.vue'
import Trouble from '../parts/Trouble.vue'
const route = useRoute()
const router = useRouter()
const q = useQuery({
  queryKey: ['sources'],
  queryFn: () => get<Page<Source>>('/sources'),
  refetchInterval: 10000,
})
const filter = computed({
  get: () => String(route.query.q ?? ''),
  set: (v) => router.replace({ query: v ? { q: v } : {} }),
})
const rows = computed(() =>
  (q.data.value?.items ?? []).filter((s) =>
    (s.name + s.standing + s.family + s.release).toLowerCase().includes(filter.value.toLowerCase()),
  ),
)
</script>
<template>
  <div class="mb-4 flex items-center gap-3">
    <h1>Sources</h1>
    <input
      v-model="filter"
      class="field ml-auto !w-56"
      placeholder="Filter"
      aria-label="Filter sources"
    /><Take name="sources" :rows="rows" />
  </div>
  <Trouble :error="q.error.value" class="mb-4" />
  <div class="panel overflow-x-auto">
    <table v-if="rows.length" class="grid-table">
      <thead>
        <tr>
          <th>Source</th>
          <th>Standing</th>
          <th>Family</th>
          <th>Release</th>
          <th class="num">Priority</th>
          <th>Root made</th>
          <th>Asked</th>
          <th>Upstream in use</th>
          <th>Mirrors</th>
          <th>Findings</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="s in rows" :key="s.name">
          <td>
            <RouterLink :to="'/sources/' + s.name" class="font-medium whitespace-nowrap">{{
              s.name
            }}</RouterLink><span v-if="s.disabled" class="text-slate"> (disabled)</span>
          </td>
          <td>{{ s.standing }}</td>
          <td>{{ s.family }}</td>
          <td>{{ s.release || '–' }}</td>
          <td class="num">{{ s.priority }}</td>
          <td><Moment :at="s.accepted?.date" /></td>
          <td><Moment :at="s.checked" /></td>
          <td class="mono max-w-56 truncate" :title="s.accepted?.upstream">
            {{
              s.standing === 'house' && !s.upstreams?.length ? 'added by hand' : (s.accepted?.upstream ?? '–')
            }}
          </td>
          <td>{{ s.mirrors.join(', ') || '–' }}</td>
          <td><Count :findings="s.findings" /></td>
        </tr>
      </tbody>
    </table>
    <p v-else-if="q.data.value" class="px-3 py-3 text-slate">
      {{
        filter
          ? 'No source fits the filter.'
          : 'No source is described yet. Write a definition and run stockade record FILE.'
      }}
    </p>
  </div>
</template>
