<script setup lang="ts">
// What is in an edition and not in an older one, and the other way round.
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { get, type Edition, type PackageChange, type Page } from '../../api'
import { count, size } from '../../format'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import Mark from '../../parts/Mark.vue'
import Take from '../../parts/Take.vue'
import Trouble from '../../parts/Trouble.vue'

const props = defineProps<{ base: string; name: string; older: Edition[] }>()
const against = defineModel<string>({ required: true })
const q = useQuery({
  queryKey: ['diff', props.base, against],
  queryFn: () =>
    get<Page<PackageChange>>(`${props.base}/diff${against.value ? '?against=' + against.value : ''}`),
  enabled: computed(() => props.older.length > 0),
})
const grown = (c: PackageChange) => (c.new_size ?? 0) - (c.old_size ?? 0)
const columns: Column<PackageChange>[] = [
  { key: 'action', title: 'Change', value: (c) => c.action },
  { key: 'name', title: 'Package', class: 'font-medium', value: (c) => c.name },
  { key: 'arch', title: 'Architecture', value: (c) => c.arch },
  { key: 'source', title: 'Source', value: (c) => c.source },
  { key: 'old', title: 'Old version', class: 'mono', value: (c) => c.old_version ?? '–' },
  { key: 'new', title: 'New version', class: 'mono', value: (c) => c.new_version ?? '–' },
  { key: 'size', title: 'Size', num: true, value: grown },
  { key: 'told', title: 'Advisories', class: 'mono', value: (c) => c.advisories?.join(', ') || '–' },
]
</script>
<template>
  <template v-if="older.length">
    <div class="mb-2 flex items-center gap-3">
      <label for="against">Against</label
      ><select id="against" v-model="against" class="field !w-48">
        <option value="">the one before</option>
        <option v-for="o in older" :key="o.number" :value="String(o.number)">{{ o.name }}</option></select
      ><span class="text-slate">{{ count(q.data.value?.items.length ?? 0, 'difference') }}</span
      ><Take class="ml-auto" :name="name + '-difference'" :rows="q.data.value?.items ?? []" />
    </div>
    <Trouble :error="q.error.value" />
    <DataTable
      v-if="q.data.value"
      :id="(c) => [c.source, c.name, c.arch, c.old_version, c.new_version].join(' ')"
      :columns="columns"
      :rows="q.data.value.items"
      scroll="calc(100vh - 250px)"
      empty="The packages are the same."
    >
      <template #action="{ row: c }">
        <Mark
          :kind="c.action === 'added' ? 'good' : c.action === 'removed' ? 'warning' : 'note'"
          :word="c.action"
        />
      </template>
      <template #size="{ row: c }">{{ grown(c) >= 0 ? '+' : '−' }}{{ size(Math.abs(grown(c))) }}</template>
    </DataTable>
  </template>
  <p v-else class="text-slate">This is the only edition of its mirror.</p>
</template>
