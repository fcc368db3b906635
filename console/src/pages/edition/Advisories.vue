<script setup lang="ts">
// What upstreams say about why packages of an edition were published.
import { useQuery } from '@tanstack/vue-query'
import { get, type Advisory, type Page } from '../../api'
import { count } from '../../format'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import Mark from '../../parts/Mark.vue'
import Moment from '../../parts/Moment.vue'
import Take from '../../parts/Take.vue'
import Trouble from '../../parts/Trouble.vue'

const props = defineProps<{ base: string; name: string }>()
const text = defineModel<string>({ required: true })
const q = useQuery({
  queryKey: ['advisories', props.base, text],
  queryFn: () => get<Page<Advisory>>(`${props.base}/advisories?q=${encodeURIComponent(text.value)}`),
})
const kind = (a: Advisory) => [a.kind, a.severity?.toLowerCase()].filter(Boolean).join(', ')
const columns: Column<Advisory>[] = [
  { key: 'id', title: 'Advisory', class: 'mono', value: (a) => a.id },
  { key: 'kind', title: 'Kind', value: kind },
  { key: 'source', title: 'Source', value: (a) => a.source },
  { key: 'issued', title: 'Issued', value: (a) => a.issued },
  {
    key: 'packages',
    title: 'Packages',
    class: 'mono',
    value: (a) => a.packages.map((p) => p.name + ' ' + p.version).join(', '),
  },
  { key: 'title', title: 'Title', class: 'max-w-96', value: (a) => a.title },
]
</script>
<template>
  <div class="mb-2 flex items-center gap-3">
    <input
      v-model.lazy="text"
      class="field !w-64"
      placeholder="Search, then Enter"
      aria-label="Search in the advisories"
    /><span class="text-slate"
      >{{ count(q.data.value?.items.length ?? 0, 'advisory', 'advisories') }} about packages of this
      edition</span
    ><Take class="ml-auto" :name="name + '-advisories'" :rows="q.data.value?.items ?? []" />
  </div>
  <Trouble :error="q.error.value" />
  <DataTable
    v-if="q.data.value"
    :id="(a) => a.source + ' ' + a.id"
    :columns="columns"
    :rows="q.data.value.items"
    :filter="text"
    scroll="calc(100vh - 250px)"
    empty="No advisories for packages of this edition."
  >
    <template #kind="{ row: a }">
      <Mark :kind="a.kind === 'security' ? 'warning' : 'note'" :word="kind(a)" />
    </template>
    <template #issued="{ row: a }"><Moment :at="a.issued" /></template>
  </DataTable>
</template>
