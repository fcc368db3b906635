<script setup lang="ts">
// Groups of machines.
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { get, type Group, type Machines, type Page } from '../../api'
import Count from '../../parts/Count.vue'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import Edit from '../../parts/Edit.vue'
import Findings from '../../parts/Findings.vue'
import Loading from '../../parts/Loading.vue'
import New from '../../parts/New.vue'
import Take from '../../parts/Take.vue'
import Trouble from '../../parts/Trouble.vue'
import Kit from './Kit.vue'

const route = useRoute()
const router = useRouter()
const q = useQuery({ queryKey: ['groups'], queryFn: () => get<Page<Group>>('/groups') })
const all = computed(() => q.data.value?.items ?? [])
const text = ref('')
const props = defineProps<{ counts: Machines['groups'] }>()
const enrolled = (g: Group) => props.counts.find((n) => n.group === g.name)?.machines ?? 0
const rows = computed(() =>
  all.value.filter((g) =>
    [g.name, g.family, g.release ?? '', g.lane, g.edition ?? '', ...(g.architectures ?? [])].some((t) =>
      t.includes(text.value.trim()),
    ),
  ),
)
const group = computed({
  get: () => String(route.query.group ?? ''),
  set: (v) => router.replace({ query: { ...route.query, group: v || undefined } }),
})
const told = computed(() => rows.value.filter((g) => g.findings.length))
const columns: Column<Group>[] = [
  {
    key: 'name',
    title: 'Group',
    term: 'group',
    class: 'font-medium whitespace-nowrap',
    value: (g) => g.name,
  },
  { key: 'family', title: 'Family', value: (g) => g.family },
  { key: 'release', title: 'Release', wide: true, value: (g) => g.release || '–' },
  {
    key: 'architectures',
    title: 'Architectures',
    wide: true,
    value: (g) => g.architectures?.join(', ') || '–',
  },
  { key: 'lane', title: 'Lane', term: 'lane', value: (g) => g.lane },
  { key: 'edition', title: 'Edition', class: 'mono', value: (g) => g.edition || 'none yet' },
  { key: 'machines', title: 'Machines', num: true, value: enrolled },
  {
    key: 'pins',
    title: 'Pins',
    term: 'pin',
    class: 'mono min-w-44',
    value: (g) => g.pins?.join(', ') || '–',
  },
  { key: 'findings', title: 'Findings', value: (g) => g.findings.length },
  { key: 'act', title: '' },
]
</script>
<template>
  <div class="mb-2 flex items-center gap-3">
    <p class="text-slate">
      A group is a set of machines of one kind. Here are their lanes and the files that they need.
    </p>
    <input
      v-if="all.length > 12"
      v-model="text"
      class="field ml-auto !w-56"
      placeholder="Filter"
      aria-label="Filter the groups"
    />
    <Take :class="all.length > 12 ? '' : 'ml-auto'" name="groups" :rows="rows" />
    <New of="group" />
  </div>
  <Trouble :error="q.error.value" class="mb-4" />
  <Loading v-if="q.isPending.value" />
  <DataTable
    v-if="q.data.value"
    :id="(g) => g.name"
    :columns="columns"
    :rows="rows"
    :filter="text"
    :scroll="rows.length > 20 ? '52vh' : undefined"
    empty="No groups yet. A group is a set of machines of one kind that follow one lane. Add one with New group."
  >
    <template #machines="{ row: g }">
      <RouterLink v-if="enrolled(g)" :to="{ query: { tab: 1, in: g.name } }">{{
        enrolled(g)
      }}</RouterLink><span v-else class="text-slate">0</span>
    </template>
    <template #findings="{ row: g }"><Count :findings="g.findings" /></template>
    <template #act="{ row: g }"
      ><span class="flex justify-end gap-1.5"
        ><Edit class="!h-6" kind="group" :name="g.name" /><button
          class="btn !h-6"
          :aria-pressed="group === g.name"
          :aria-label="'Files of ' + g.name"
          @click="group = g.name"
        >
          Files
        </button></span
      ></template
    >
  </DataTable>
  <div v-for="g in told.slice(0, 20)" :key="g.name" class="panel mt-3">
    <Findings :findings="g.findings" />
  </div>
  <p v-if="told.length > 20" class="mt-2 text-slate">
    {{ told.length - 20 }} more groups have findings: use the filter to see them.
  </p>
  <Kit v-if="group" :key="group" class="mt-5" :group="group" />
</template>
