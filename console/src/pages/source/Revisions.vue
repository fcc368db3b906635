<script setup lang="ts">
// The revisions that changed a source, and the way back to one of them.
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { get, type Page, type Revision } from '../../api'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import Moment from '../../parts/Moment.vue'
import Restore from '../../parts/Restore.vue'
import Trouble from '../../parts/Trouble.vue'
import Act from '../../parts/Act.vue'

const props = defineProps<{ name: string }>()
const emit = defineEmits<{ restored: [] }>()
const q = useQuery({ queryKey: ['revisions'], queryFn: () => get<Page<Revision>>('/revisions') })
const restoring = ref(0)
const rows = computed(() =>
  (q.data.value?.items ?? []).filter((r) =>
    r.changes?.some((c) => c.kind === 'source' && c.name === props.name),
  ),
)
const what = (r: Revision) =>
  r.changes
    .filter((c) => c.name === props.name)
    .map((c) => (c.action === 'add' ? 'added' : c.fields.map((f) => f.path).join(', ')))
    .join('; ')
const columns: Column<Revision>[] = [
  { key: 'id', title: 'Revision', num: true, value: (r) => r.id },
  { key: 'at', title: 'When', value: (r) => r.at },
  { key: 'by', title: 'By', value: (r) => r.by },
  { key: 'summary', title: 'Summary', value: (r) => r.summary },
  { key: 'what', title: 'Changed', class: 'text-slate', value: what },
  { key: 'back', title: '', num: true },
]
function restored() {
  restoring.value = 0
  emit('restored')
}
</script>
<template>
  <Trouble :error="q.error.value" class="mb-4" />
  <DataTable
    v-if="q.data.value"
    :id="(r) => r.id"
    :columns="columns"
    :rows="rows"
    empty="No revision changed this source."
  >
    <template #at="{ row: r }"><Moment :at="r.at" /></template>
    <template #back="{ row: r }">
      <Act does="restore" class="!h-6" @click="restoring = r.id">Restore…</Act>
    </template>
  </DataTable>
  <Restore
    v-if="restoring"
    :revision="restoring"
    :object="'source/' + name"
    @close="restoring = 0"
    @done="restored"
  />
</template>
