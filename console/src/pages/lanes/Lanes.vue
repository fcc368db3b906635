<script setup lang="ts">
// Lanes as columns, editions as rows. With many lanes those of one mirror stand there, and the
// lanes themselves in a list above, those that need somebody first.
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { get, type Edition, type Lane, type Page } from '../../api'
import { size } from '../../format'
import Act from '../../parts/Act.vue'
import Count from '../../parts/Count.vue'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import Edit from '../../parts/Edit.vue'
import Findings from '../../parts/Findings.vue'
import Loading from '../../parts/Loading.vue'
import Lack from '../../parts/Lack.vue'
import Mark from '../../parts/Mark.vue'
import Moment from '../../parts/Moment.vue'
import New from '../../parts/New.vue'
import Take from '../../parts/Take.vue'
import Term from '../../parts/Term.vue'
import Trouble from '../../parts/Trouble.vue'
import Move from './Move.vue'

const few = 10 // lanes that fit beside each other
const route = useRoute()
const router = useRouter()
const lanes = useQuery({ queryKey: ['lanes'], queryFn: () => get<Page<Lane>>('/lanes') })
const editions = useQuery({ queryKey: ['editions'], queryFn: () => get<Page<Edition>>('/editions') })
const all = computed(() => lanes.data.value?.items ?? [])
const many = computed(() => all.value.length > few)
const behind = (l: Lane) => !!l.newest && l.edition !== l.newest
const matter = (l: Lane) => (l.findings.length ? 0 : l.edition ? (behind(l) ? 2 : 3) : 1)
const text = ref('')
const listed = computed(() =>
  all.value
    .filter((l) => [l.name, l.mirror, l.edition, ...l.groups].some((t) => t.includes(text.value.trim())))
    .sort((a, b) => matter(a) - matter(b)),
)
const mirrors = computed(() => [...new Set(all.value.map((l) => l.mirror))].sort())
const mirror = computed({
  get: () => String(route.query.mirror ?? (many.value ? (listed.value[0] ?? all.value[0])?.mirror : '')),
  set: (v) => router.replace({ query: { ...route.query, mirror: v || undefined } }),
})
const cols = computed(() => all.value.filter((l) => !mirror.value || l.mirror === mirror.value))
const rows = computed(() =>
  (editions.data.value?.items ?? []).filter((e) => cols.value.some((l) => l.mirror === e.mirror)),
)
const asked = ref<{ lane: Lane; to: string; back?: boolean } | null>(null)
const columns: Column<Lane>[] = [
  { key: 'name', title: 'Lane', value: (l) => l.name },
  { key: 'mirror', title: 'Mirror', value: (l) => l.mirror },
  { key: 'edition', title: 'Shows', class: 'mono', value: (l) => l.edition },
  { key: 'newest', title: 'Newest', class: 'mono', value: (l) => l.newest },
  { key: 'groups', title: 'Groups', num: true, value: (l) => l.groups.length },
  { key: 'state', title: 'State', value: matter },
  { key: 'act', title: '' },
]
</script>
<template>
  <div class="mb-1 flex items-center gap-3">
    <h1>Lanes</h1>
    <input
      v-if="many"
      v-model="text"
      class="field ml-auto !w-56"
      placeholder="Filter"
      aria-label="Filter the lanes"
    />
    <Take :class="many ? '' : 'ml-auto'" name="lanes" :rows="listed" />
    <New of="lane" />
  </div>
  <p class="mb-4 text-slate">
    Each lane<Term of="lane" /> shows one edition to the machines of its groups. When you move a lane, the
    machines see the new edition at their next update.
  </p>
  <Trouble :error="lanes.error.value ?? editions.error.value" class="mb-4" />
  <Loading v-if="lanes.isPending.value" />
  <Lack does="move" what="Moving a lane" />
  <template v-if="many">
    <DataTable
      :id="(l) => l.name"
      class="mb-4"
      :columns="columns"
      :rows="listed"
      :filter="text"
      scroll="34vh"
      empty="No lanes yet."
    >
      <template #name="{ row: l }"
        ><button
          class="font-medium text-tide hover:underline"
          :aria-pressed="mirror === l.mirror"
          @click="mirror = l.mirror"
        >
          {{ l.name }}
        </button></template
      >
      <template #edition="{ row: l }">{{ l.edition || 'nothing' }}</template>
      <template #state="{ row: l }"
        ><Count v-if="l.findings.length" :findings="l.findings" /><Mark
          v-else-if="!l.edition"
          kind="none"
          word="shows nothing" /><Mark v-else-if="behind(l)" kind="note" word="behind the newest" /><Mark
          v-else
          kind="good"
          word="newest"
      /></template>
      <template #act="{ row: l }"
        ><span class="flex justify-end"
          ><Act v-if="behind(l)" does="move" dense class="!h-6" @click="asked = { lane: l, to: l.newest }"
            >Move to newest</Act
          ></span
        ></template
      >
    </DataTable>
    <div class="mb-2 flex items-center gap-2">
      <label for="mirror">Editions of</label>
      <select id="mirror" v-model="mirror" class="field !w-56">
        <option v-for="m in mirrors" :key="m">{{ m }}</option>
      </select>
    </div>
  </template>
  <div v-if="cols.length" class="panel overflow-auto" style="max-height: 60vh">
    <table class="grid-table matrix">
      <thead>
        <tr>
          <th>Edition<Term of="edition" /></th>
          <th>Built</th>
          <th class="num">Packages</th>
          <th class="num">Size</th>
          <th v-for="l in cols" :key="l.name" class="!text-center">{{ l.name }}</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="e in rows" :key="e.name">
          <td>
            <RouterLink :to="'/editions/' + e.name" class="mono">{{ e.name }}</RouterLink>
          </td>
          <td><Moment :at="e.created" /></td>
          <td class="num">{{ e.packages.toLocaleString('en') }}</td>
          <td class="num">{{ size(e.bytes) }}</td>
          <td v-for="l in cols" :key="l.name" class="text-center">
            <Mark v-if="l.edition === e.name" kind="good" word="here" /><Act
              v-else-if="l.mirror === e.mirror"
              does="move"
              dense
              class="!h-6"
              :aria-label="`Move here: ${l.name} to ${e.name}`"
              @click="asked = { lane: l, to: e.name }"
            >
              Move here</Act
            ><span v-else class="text-line">·</span>
          </td>
        </tr>
      </tbody>
    </table>
    <p v-if="!rows.length && editions.data.value" class="px-3 py-2 text-slate">
      No editions yet. Build a mirror first.
    </p>
  </div>
  <p v-else-if="lanes.data.value" class="panel px-3 py-3 text-slate">
    No lanes yet. A lane is a name that machines follow; it shows one edition of a mirror.
  </p>
  <div class="mt-5 grid grid-cols-2 gap-5">
    <section v-for="l in cols" :key="l.name" class="panel p-3">
      <div class="mb-2 flex items-center gap-2">
        <h2>{{ l.name }}</h2>
        <code v-if="l.edition">{{ l.edition }}</code>
        <Act
          does="back"
          class="ml-auto !h-6"
          :disabled="!l.back"
          @click="asked = { lane: l, to: l.back, back: true }"
        >
          Revert last move
        </Act>
        <Edit class="!h-6" kind="lane" :name="l.name" />
      </div>
      <Findings v-if="l.findings.length" class="mb-2" :findings="l.findings" />
      <dl class="facts">
        <dt>Address</dt>
        <dd class="mono">{{ l.url }}</dd>
        <dt>Groups</dt>
        <dd>{{ l.groups.join(', ') || 'none' }}</dd>
      </dl>
      <table v-if="l.history.length" class="grid-table mt-2">
        <tbody>
          <tr v-for="(h, i) in l.history.slice(0, 5)" :key="i">
            <td><Moment :at="h.at" /></td>
            <td>
              {{ h.back ? 'back to' : 'to' }} <code>{{ h.edition }}</code>
            </td>
            <td>{{ h.by }}</td>
            <td class="text-slate">{{ h.reason }}</td>
          </tr>
        </tbody>
      </table>
    </section>
  </div>
  <Move
    v-if="asked"
    :key="asked.lane.name + asked.to"
    :lane="asked.lane"
    :to="asked.to"
    :back="asked.back"
    @close="asked = null"
  />
</template>
