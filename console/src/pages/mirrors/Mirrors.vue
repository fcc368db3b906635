<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { get, type Mirror, type Page } from '../../api'
import Count from '../../parts/Count.vue'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import Loading from '../../parts/Loading.vue'
import Mark from '../../parts/Mark.vue'
import Moment from '../../parts/Moment.vue'
import New from '../../parts/New.vue'
import Take from '../../parts/Take.vue'
import Trouble from '../../parts/Trouble.vue'
const q = useQuery({
  queryKey: ['mirrors'],
  queryFn: () => get<Page<Mirror>>('/mirrors'),
})
const columns: Column<Mirror>[] = [
  { key: 'name', title: 'Mirror', class: 'whitespace-nowrap', value: (m) => m.name },
  { key: 'copy', title: 'Copy', term: 'copy', value: (m) => m.copy },
  { key: 'from', title: 'From', value: (m) => m.from.map((f) => f.source).join(', ') },
  { key: 'count', title: 'Editions', num: true, term: 'edition', value: (m) => m.editions.length },
  { key: 'newest', title: 'Newest', class: 'whitespace-nowrap', value: (m) => m.editions[0]?.name },
  { key: 'made', title: 'Built', value: (m) => m.editions[0]?.created },
  { key: 'lanes', title: 'Lanes', term: 'lane', value: (m) => m.lanes.join(', ') || '–' },
  {
    key: 'schedule',
    title: 'Schedule',
    class: 'mono whitespace-nowrap',
    wide: true,
    value: (m) => m.schedule || '–',
  },
  { key: 'findings', title: 'Findings', value: (m) => m.findings.length },
]
</script>
<template>
  <div class="mb-4 flex items-center gap-3">
    <h1>Mirrors</h1>
    <Take class="ml-auto" name="mirrors" :rows="q.data.value?.items ?? []" />
    <New of="mirror" />
  </div>
  <Trouble :error="q.error.value" class="mb-4" />
  <Loading v-if="q.isPending.value" />
  <DataTable
    v-if="q.data.value"
    :id="(m) => m.name"
    :columns="columns"
    :rows="q.data.value.items"
    empty="No mirrors yet. A mirror defines which sources are copied and which packages are wanted. Add one with New mirror."
  >
    <template #name="{ row: m }">
      <RouterLink :to="'/mirrors/' + m.name" class="font-medium">{{ m.name }}</RouterLink>
    </template>
    <template #newest="{ row: m }">
      <RouterLink v-if="m.editions[0]" :to="'/editions/' + m.editions[0].name" class="mono">{{
        m.editions[0].name
      }}</RouterLink><span v-else class="text-slate">none yet</span>
    </template>
    <template #made="{ row: m }"><Moment :at="m.editions[0]?.created" /></template>
    <template #findings="{ row: m }">
      <Mark v-if="m.job" kind="busy" word="building" /><Count v-else :findings="m.findings" />
    </template>
  </DataTable>
</template>
