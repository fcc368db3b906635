<script setup lang="ts">
// Packages by part of a name or description, over all enabled sources and all editions; and one of them.
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { get, type FoundPackage, type FoundPackages, type Lane, type Page, type Source } from '../../api'
import { count, size } from '../../format'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import Empty from '../../parts/Empty.vue'
import Mark from '../../parts/Mark.vue'
import Take from '../../parts/Take.vue'
import Trouble from '../../parts/Trouble.vue'
import Where from './Where.vue'

const route = useRoute()
const router = useRouter()
const name = computed(() => String(route.query.name ?? ''))
const text = ref(String(route.query.q ?? route.query.name ?? ''))
const source = computed(() => String(route.query.source ?? ''))
const lane = computed(() => String(route.query.lane ?? ''))
let pending = 0
function set(query: Record<string, string>) {
  const all = { ...route.query, ...query } as Record<string, string>
  for (const key of Object.keys(all)) if (!all[key]) delete all[key]
  router.replace({ query: all })
}
watch(text, (t) => {
  clearTimeout(pending)
  if (t.trim() === name.value) return
  pending = window.setTimeout(() => set({ q: t.trim(), name: '' }), 150)
})
watch(
  () => route.query.q ?? route.query.name,
  (t) => {
    if (String(t ?? '') !== text.value.trim()) text.value = String(t ?? '')
  },
)
const asked = computed(() => name.value || String(route.query.q ?? ''))
const query = computed(() =>
  new URLSearchParams({ q: asked.value, source: source.value, lane: lane.value }).toString(),
)
const q = useQuery({
  queryKey: ['found', query],
  enabled: computed(() => !!asked.value),
  queryFn: () => get<FoundPackages>('/packages/find?' + query.value),
  placeholderData: (old: FoundPackages | undefined) => old,
})
const sources = useQuery({ queryKey: ['sources'], queryFn: () => get<Page<Source>>('/sources?limit=1000') })
const lanes = useQuery({ queryKey: ['lanes'], queryFn: () => get<Page<Lane>>('/lanes?limit=1000') })

type Version = FoundPackage['versions'][number]
interface Row extends Version {
  name: string
  summary: string
  archs: string
}
// The main versions of a package, or every one, with the architectures of each.
function rowsOf(p: FoundPackage, every: boolean) {
  const rows: Row[] = []
  for (const v of p.versions) {
    if (!every && !v.main) continue
    const same = rows.find(
      (r) =>
        r.source === v.source &&
        r.version === v.version &&
        r.offered === v.offered &&
        r.lanes.join() === v.lanes.join(),
    )
    if (same) same.archs += ', ' + v.architecture
    else rows.push({ ...v, name: p.name, summary: p.summary ?? '', archs: v.architecture })
  }
  return rows
}
const one = computed(() => q.data.value?.items.find((p) => p.name === name.value))
const rows = computed(() =>
  name.value
    ? one.value
      ? rowsOf(one.value, true)
      : []
    : (q.data.value?.items ?? []).flatMap((p) => rowsOf(p, false)),
)
const columns = computed<Column<Row>[]>(() => [
  ...(name.value ? [] : [{ key: 'name', title: 'Package', value: (r: Row) => r.name }]),
  { key: 'version', title: 'Version', class: 'mono whitespace-nowrap', value: (r) => r.version },
  { key: 'source', title: 'Source', class: 'whitespace-nowrap', value: (r) => r.source },
  { key: 'arch', title: 'Architecture', value: (r) => r.archs },
  { key: 'offered', title: 'Offered', value: (r) => (r.offered ? 'yes' : 'no') },
  { key: 'lanes', title: 'Lanes', value: (r) => r.lanes.join(', ') || '–' },
  ...(name.value
    ? [{ key: 'editions', title: 'Editions', value: (r: Row) => r.editions.join(', ') || '–' }]
    : []),
  { key: 'size', title: 'Size', num: true, value: (r) => r.size },
  ...(name.value
    ? []
    : [
        {
          key: 'summary',
          title: 'Summary',
          class: 'max-w-96 max-[1199px]:max-w-60 truncate text-slate',
          value: (r: Row) => r.summary,
        },
      ]),
])
const facts = computed(() =>
  [
    one.value?.section && 'section ' + one.value.section,
    one.value?.origin && 'built from ' + one.value.origin,
    one.value?.licence && 'licence ' + one.value.licence,
  ].filter(Boolean),
)
</script>
<template>
  <h1 class="mb-1">Packages</h1>
  <p class="mb-3 text-slate">
    All enabled sources, as they were when their metadata was last accepted, and all editions.
  </p>
  <div class="mb-3 flex items-center gap-2">
    <input
      v-model="text"
      class="field !w-96"
      placeholder="Part of a name or description, or a pattern such as pump-*"
      aria-label="Search packages"
      autocomplete="off"
      spellcheck="false"
    />
    <template v-if="!name">
      <select
        class="field !w-44"
        aria-label="Source"
        :value="source"
        @change="set({ source: ($event.target as HTMLSelectElement).value })"
      >
        <option value="">All sources</option>
        <option v-for="s in sources.data.value?.items ?? []" :key="s.name">{{ s.name }}</option>
      </select>
      <select
        class="field !w-44"
        aria-label="Lane"
        :value="lane"
        @change="set({ lane: ($event.target as HTMLSelectElement).value })"
      >
        <option value="">On any lane or none</option>
        <option v-for="l in lanes.data.value?.items ?? []" :key="l.name">{{ l.name }}</option>
      </select>
    </template>
    <Take v-if="rows.length" class="ml-auto" name="packages" :rows="rows" />
  </div>
  <Trouble :error="q.error.value" class="mb-4" />
  <div v-if="!asked" class="panel">
    <Empty>Type part of a name, or words of a description.</Empty>
  </div>
  <template v-else-if="q.data.value">
    <div v-if="name" class="mb-2">
      <h2 class="mb-0.5">{{ name }}</h2>
      <p v-if="one?.summary">{{ one.summary }}</p>
      <p v-if="facts.length" class="text-slate">{{ facts.join(' · ') }}</p>
    </div>
    <DataTable
      v-if="rows.length"
      :id="(r) => r.name + ' ' + r.source + ' ' + r.version + ' ' + r.archs + r.lanes.join()"
      :columns="columns"
      :rows="rows"
      :fixed="!name"
      empty=""
    >
      <template #name="{ row: r }">
        <RouterLink class="font-medium" :to="{ query: { name: r.name } }">{{ r.name }}</RouterLink>
      </template>
      <template #source="{ row: r }">
        <RouterLink :to="'/sources/' + r.source">{{ r.source }}</RouterLink>
      </template>
      <template #editions="{ row: r }">
        <template v-for="(e, i) in r.editions" :key="e"
          ><template v-if="i">, </template><RouterLink :to="'/editions/' + e">{{ e }}</RouterLink></template
        ><template v-if="!r.editions.length">–</template>
      </template>
      <template #size="{ row: r }">{{ size(r.size) }}</template>
    </DataTable>
    <p v-else class="panel px-3 py-2">
      No package matches “{{ asked }}”.
      <template v-if="q.data.value.near"
        >Did you mean
        <button class="btn ml-1 !h-6" @click="set({ name: q.data.value.near ?? '', q: '' })">
          {{ q.data.value.near }}</button>?</template
      >
    </p>
    <p v-if="q.data.value.more && !name" class="mt-1.5 text-slate">
      The first {{ count(q.data.value.items.length, 'name', 'names') }} are shown. Add a word to narrow the
      search.
    </p>
    <details v-if="q.data.value.unread.all" class="mt-1.5">
      <summary class="cursor-pointer">
        <Mark
          kind="warning"
          :word="count(q.data.value.unread.all, 'object was', 'objects were') + ' not searched'"
        />
      </summary>
      <p v-for="u in q.data.value.unread.items" :key="u.object" class="text-slate">
        {{ u.object }}: {{ u.why }}
      </p>
    </details>
    <Where v-if="name" :key="name" :name="name" class="mt-5" @other="(n) => set({ name: n, q: '' })" />
  </template>
</template>
