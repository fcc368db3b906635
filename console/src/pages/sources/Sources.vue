<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { get, type Page, type Source } from '../../api'
import Count from '../../parts/Count.vue'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import Loading from '../../parts/Loading.vue'
import Moment from '../../parts/Moment.vue'
import New from '../../parts/New.vue'
import Take from '../../parts/Take.vue'
import Trouble from '../../parts/Trouble.vue'

const route = useRoute()
const router = useRouter()
const q = useQuery({
  queryKey: ['sources'],
  queryFn: () => get<Page<Source>>('/sources'),
})
const filter = computed({
  get: () => String(route.query.q ?? ''),
  set: (v) => router.replace({ query: { ...route.query, q: v || undefined } }),
})
const rows = computed(() =>
  (q.data.value?.items ?? []).filter((s) =>
    (s.name + s.standing + s.family + s.release).toLowerCase().includes(filter.value.toLowerCase()),
  ),
)
const columns: Column<Source>[] = [
  { key: 'name', title: 'Source', value: (s) => s.name },
  { key: 'standing', title: 'Standing', term: 'standing', value: (s) => s.standing },
  { key: 'family', title: 'Family', value: (s) => s.family },
  { key: 'release', title: 'Release', value: (s) => s.release || '–' },
  { key: 'priority', title: 'Priority', num: true, term: 'priority', value: (s) => s.priority },
  { key: 'made', title: 'Metadata made', term: 'root', value: (s) => s.accepted?.date },
  { key: 'asked', title: 'Contacted', value: (s) => s.checked },
  {
    key: 'upstream',
    title: 'Upstream in use',
    term: 'upstream',
    wide: true,
    class: 'mono max-w-56 truncate',
  },
  { key: 'mirrors', title: 'Mirrors', value: (s) => s.mirrors.join(', ') || '–' },
  { key: 'findings', title: 'Findings', value: (s) => s.findings.length },
]
</script>
<template>
  <div class="mb-4 flex items-center gap-3">
    <h1>Sources</h1>
    <input
      v-model="filter"
      class="field ml-auto !w-56"
      placeholder="Filter"
      aria-label="Filter sources"
    /><Take name="sources" :rows="rows" /><New of="source" />
  </div>
  <Trouble :error="q.error.value" class="mb-4" />
  <Loading v-if="q.isPending.value" />
  <DataTable
    v-if="q.data.value"
    :id="(s) => s.name"
    :columns="columns"
    :rows="rows"
    :filter="filter"
    empty="No sources yet. Add one under Definitions, or import files of a machine there."
  >
    <template #name="{ row: s }">
      <RouterLink :to="'/sources/' + s.name" class="font-medium whitespace-nowrap">{{
        s.name
      }}</RouterLink><span v-if="s.disabled" class="text-slate"> (disabled)</span>
    </template>
    <template #made="{ row: s }"><Moment :at="s.accepted?.date" /></template>
    <template #asked="{ row: s }"><Moment :at="s.checked" /></template>
    <template #upstream="{ row: s }">
      <span :title="s.accepted?.upstream">{{
        s.managed ? 'added by hand' : (s.accepted?.upstream ?? '–')
      }}</span>
    </template>
    <template #findings="{ row: s }"><Count :findings="s.findings" /></template>
  </DataTable>
</template>
