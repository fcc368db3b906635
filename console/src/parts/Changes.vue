<script setup lang="ts">
// Packages that are in one state of a mirror and not in another, with their versions.
import { size } from '../format'
import type { PackageChange } from '../api'
import DataTable, { type Column } from './DataTable.vue'
import Mark from './Mark.vue'

type Seen = PackageChange & { pin?: string }
defineProps<{ changes: Seen[]; scroll?: string; empty: string; fixed?: boolean }>()
const grown = (c: PackageChange) => (c.new_size ?? 0) - (c.old_size ?? 0)
const columns: Column<Seen>[] = [
  { key: 'action', title: 'Change', value: (c) => c.action },
  { key: 'name', title: 'Package', class: 'font-medium', value: (c) => c.name },
  { key: 'arch', title: 'Architecture', value: (c) => c.arch },
  { key: 'source', title: 'Source', value: (c) => c.source },
  { key: 'old', title: 'Old version', class: 'mono whitespace-nowrap', value: (c) => c.old_version ?? '–' },
  { key: 'new', title: 'New version', class: 'mono', value: (c) => c.new_version ?? '–' },
  { key: 'size', title: 'Size', num: true, value: grown },
  { key: 'told', title: 'Advisories', class: 'mono', value: (c) => c.advisories?.join(', ') || '–' },
]
</script>
<template>
  <DataTable
    :id="(c) => [c.source, c.name, c.arch, c.old_version, c.new_version].join(' ')"
    :columns="columns"
    :rows="changes"
    :scroll="scroll"
    :empty="empty"
    :fixed="fixed"
  >
    <template #action="{ row: c }">
      <Mark
        :kind="
          c.security || c.older || c.action === 'removed' ? 'warning' : c.action === 'added' ? 'good' : 'note'
        "
        :word="(c.security ? 'security, ' : '') + (c.older ? 'older' : c.action)"
      />
    </template>
    <template #size="{ row: c }">{{ grown(c) >= 0 ? '+' : '−' }}{{ size(Math.abs(grown(c))) }}</template>
    <template #new="{ row: c }"
      >{{ c.new_version ?? '–'
      }}<span v-if="c.pin" class="ml-1 font-sans text-slate">stays, pinned: {{ c.pin }}</span></template
    >
  </DataTable>
</template>
