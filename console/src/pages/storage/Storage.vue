<script setup lang="ts">
// What uses the disk, and what can be freed.
import { CircleStackIcon } from '@heroicons/vue/16/solid'
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { get, type PoolUsage } from '../../api'
import { absolute, count, size } from '../../format'
import Act from '../../parts/Act.vue'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import Lack from '../../parts/Lack.vue'
import Loading from '../../parts/Loading.vue'
import Retire from '../../parts/Retire.vue'
import Take from '../../parts/Take.vue'
import Trouble from '../../parts/Trouble.vue'
import { ask } from '../../parts/way'

type Row = PoolUsage['editions'][number]
const q = useQuery({ queryKey: ['pool'], queryFn: () => get<PoolUsage>('/pool') })
const retiring = ref<Row | null>(null)
const sweeps = computed(() => (q.data.value ? q.data.value.unheld.bytes + q.data.value.aside.bytes : 0))
// What the pool is made of; the parts are all of it.
const parts = computed(() => {
  const p = q.data.value
  if (!p) return []
  const alone = p.editions.reduce((n, e) => n + e.alone.bytes, 0)
  return [
    {
      name: 'shared',
      bytes: Math.max(0, p.total.bytes - alone - p.unheld.bytes),
      shade: 'bg-tide',
      says: 'used by several editions, the next build or a house source',
    },
    {
      name: 'used by one edition',
      bytes: alone,
      shade: 'bg-tide/45',
      says: 'freed by a sweep after the edition is retired',
    },
    { name: 'unused', bytes: p.unheld.bytes, shade: 'bg-lantern', says: 'freed by a sweep' },
  ]
})
const share = (bytes: number) => (100 * bytes) / Math.max(1, q.data.value?.total.bytes ?? 1) + '%'
const columns: Column<Row>[] = [
  { key: 'name', title: 'Edition', value: (e) => e.name },
  { key: 'files', title: 'Files', num: true, value: (e) => e.held.files },
  { key: 'held', title: 'Size', num: true, value: (e) => e.held.bytes },
  { key: 'alone', title: 'Only here', num: true, term: 'alone', value: (e) => e.alone.bytes },
  {
    key: 'lanes',
    title: 'Lanes',
    value: (e) => (e.until ? `retired; kept until ${absolute(e.until)}` : e.lanes.join(', ') || 'no lane'),
  },
  { key: 'act', title: '', class: 'text-right' },
]
const taken = computed(() =>
  (q.data.value?.editions ?? []).map((e) => ({
    edition: e.name,
    files: e.held.files,
    bytes: e.held.bytes,
    alone_files: e.alone.files,
    alone_bytes: e.alone.bytes,
    lanes: e.lanes.join(' '),
  })),
)
</script>
<template>
  <div class="mb-4 flex items-center gap-3">
    <h1>Storage</h1>
    <span v-if="q.data.value" class="text-slate"
      >{{ count(q.data.value.total.files, 'file') }} in the pool, {{ size(q.data.value.total.bytes) }};
      {{ size(q.data.value.free) }} are free on the disk</span
    >
    <div class="ml-auto flex gap-2">
      <Take name="storage" :rows="taken" />
      <Act does="sweepPool" :disabled="!sweeps" @click="ask({ does: 'sweep', of: 'pool' })">
        <CircleStackIcon class="size-4" aria-hidden="true" />
        {{ sweeps ? `Free ${size(sweeps)}` : 'Nothing to free' }}
      </Act>
    </div>
  </div>
  <Trouble :error="q.error.value" class="mb-4" />
  <Loading v-if="q.isPending.value" />
  <template v-if="q.data.value">
    <section v-if="q.data.value.total.bytes" class="panel mb-4 p-3">
      <div class="flex h-2.5 overflow-hidden rounded bg-raised" aria-hidden="true">
        <div v-for="p in parts" :key="p.name" :class="p.shade" :style="{ width: share(p.bytes) }" />
      </div>
      <dl class="mt-2.5 flex flex-wrap gap-x-8 gap-y-1">
        <div v-for="p in parts" :key="p.name" class="flex items-baseline gap-2">
          <dt class="flex items-baseline gap-2">
            <span class="size-2.5 rounded-sm" :class="p.shade" aria-hidden="true" />{{ p.name }}
          </dt>
          <dd>
            <b>{{ size(p.bytes) }}</b> <span class="text-slate">{{ p.says }}</span>
          </dd>
        </div>
        <div v-if="q.data.value.aside.files" class="flex items-baseline gap-2">
          <dt>moved aside</dt>
          <dd>
            <b>{{ size(q.data.value.aside.bytes) }}</b>
            <span class="text-slate">damaged files, outside the pool; freed by a sweep</span>
          </dd>
        </div>
      </dl>
    </section>
    <Lack does="retire" what="Retiring an edition" />
    <DataTable :id="(e) => e.name" :columns="columns" :rows="q.data.value.editions" empty="No editions yet.">
      <template #name="{ row: e }"
        ><RouterLink :to="'/editions/' + e.name" class="mono">{{ e.name }}</RouterLink></template
      >
      <template #held="{ row: e }">{{ size(e.held.bytes) }}</template>
      <template #alone="{ row: e }">{{ size(e.alone.bytes) }}</template>
      <template #act="{ row: e }"
        ><Act
          does="retire"
          dense
          class="btn-stop"
          :disabled="!!e.lanes.length || !!e.until"
          @click="retiring = e"
          >Retire</Act
        ></template
      >
    </DataTable>
  </template>
  <Retire v-if="retiring" :of="retiring" @close="retiring = null" @done="retiring = null"
    >{{ size(retiring.alone.bytes) }} of it nothing else holds: a sweep frees them then.</Retire
  >
</template>
