<script setup lang="ts">
// The packages of an edition, searched by the service.
import { useQuery } from '@tanstack/vue-query'
import { ref } from 'vue'
import { get, type Item, type Page } from '../../api'
import { size } from '../../format'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import Take from '../../parts/Take.vue'
import Trouble from '../../parts/Trouble.vue'
import Behind from './Behind.vue'
import { reason } from './reason'

const props = defineProps<{ base: string; name: string }>()
const text = defineModel<string>({ required: true })
const limit = ref(200)
const behind = ref<Item | null>(null)
const q = useQuery({
  queryKey: ['items', props.base, text, limit],
  queryFn: () =>
    get<Page<Item>>(`${props.base}/packages?limit=${limit.value}&q=${encodeURIComponent(text.value)}`),
  placeholderData: (old: Page<Item> | undefined) => old,
})
const columns: Column<Item>[] = [
  { key: 'name', title: 'Package', class: 'font-medium', value: (i) => i.name },
  { key: 'version', title: 'Version', class: 'mono whitespace-nowrap', value: (i) => i.version },
  { key: 'arch', title: 'Architecture', value: (i) => i.arch },
  { key: 'source', title: 'Source', class: 'whitespace-nowrap', value: (i) => i.source },
  {
    key: 'part',
    title: 'Part',
    wide: true,
    value: (i) => (i.attributes?.stream ? 'stream ' + i.attributes.stream : i.component),
  },
  { key: 'size', title: 'Size', num: true, value: (i) => i.size },
  {
    key: 'why',
    title: 'Why it is in',
    value: (i) => reason(i),
  },
  {
    key: 'summary',
    title: 'Summary',
    class: 'max-w-72 max-[1199px]:max-w-44 truncate text-slate',
    value: (i) => i.summary,
  },
]
</script>
<template>
  <div class="mb-2 flex items-center gap-3">
    <input
      v-model.lazy="text"
      class="field !w-64"
      placeholder="Search in this edition, then Enter"
      aria-label="Search in this edition"
    /><span class="text-slate"
      >{{ q.data.value?.items.length ?? 0 }} shown{{ q.data.value?.next ? ', there are more' : '' }}</span
    ><button v-if="q.data.value?.next" class="btn" @click="limit = Math.min(1000, limit + 400)">
      Show more</button
    ><Take
      class="ml-auto"
      :name="name"
      :rows="q.data.value?.items ?? []"
      :path="`${base}/packages?q=${encodeURIComponent(text)}`"
    />
  </div>
  <Trouble :error="q.error.value" />
  <DataTable
    v-if="q.data.value"
    :id="(i) => i.path"
    :columns="columns"
    :rows="q.data.value.items"
    :fixed="!!q.data.value.next"
    :filter="text"
    scroll="calc(100vh - 250px)"
    empty="No packages match."
  >
    <template #name="{ row: i }">
      <button class="font-medium text-tide hover:underline" :title="'Chain of trust'" @click="behind = i">
        {{ i.name }}
      </button>
    </template>
    <template #size="{ row: i }">{{ size(i.size) }}</template>
  </DataTable>
  <Behind v-if="behind" :base="base" :of="behind" @close="behind = null" />
</template>
