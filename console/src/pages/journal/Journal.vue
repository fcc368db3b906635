<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { get, post, type JournalEntry, type Page } from '../../api'
import { absolute } from '../../format'
import Act from '../../parts/Act.vue'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import Loading from '../../parts/Loading.vue'
import Mark from '../../parts/Mark.vue'
import Modal from '../../parts/Modal.vue'
import Moment from '../../parts/Moment.vue'
import Take from '../../parts/Take.vue'
import Trouble from '../../parts/Trouble.vue'

const route = useRoute()
const router = useRouter()
const text = computed({
  get: () => String(route.query.q ?? ''),
  set: (v) => router.replace({ query: { ...route.query, q: v || undefined } }),
})
const since = computed(() => String(route.query.since ?? ''))
const limit = ref(200)
const q = useQuery({
  queryKey: ['journal', text, limit, since],
  queryFn: () =>
    get<Page<JournalEntry>>(
      `/journal?limit=${limit.value}&q=${encodeURIComponent(text.value)}&since=${encodeURIComponent(since.value)}`,
    ),
  placeholderData: (old: Page<JournalEntry> | undefined) => old,
})
const report = ref<{ holds: boolean; text: string } | null>(null)
const open = ref<JournalEntry | null>(null)
const error = ref<unknown>(null)
async function verify() {
  error.value = null
  try {
    report.value = await post('/journal/verify')
  } catch (e) {
    error.value = e
  }
}
const said = (e: JournalEntry) =>
  Object.entries(e.detail ?? {})
    .filter(([, v]) => v)
    .map(([k, v]) => k + ': ' + v)
    .join(' · ')
const columns: Column<JournalEntry>[] = [
  { key: 'number', title: 'Entry', num: true, value: (e) => e.number },
  { key: 'at', title: 'When', value: (e) => e.at },
  { key: 'by', title: 'By', value: (e) => e.by },
  { key: 'action', title: 'Action', class: 'mono', value: (e) => e.action },
  {
    key: 'object',
    title: 'Object',
    class: 'max-w-64 max-[1199px]:max-w-44 truncate',
    value: (e) => e.object,
  },
  { key: 'detail', title: 'Detail', class: 'max-w-[480px] max-[1199px]:max-w-64 truncate text-slate' },
]
</script>
<template>
  <div class="mb-4 flex items-center gap-3">
    <h1>Journal</h1>
    <Mark v-if="report" :kind="report.holds ? 'good' : 'error'" :word="report.text" /><input
      v-model.lazy="text"
      class="field ml-auto !w-56"
      placeholder="Filter, then Enter"
      aria-label="Filter the journal"
    /><Take
      name="journal"
      :rows="q.data.value?.items ?? []"
      :path="'/journal?q=' + encodeURIComponent(text)"
    /><Act does="verifyJournal" class="btn-go" @click="verify">Verify</Act>
  </div>
  <Trouble :error="q.error.value ?? error" class="mb-4" />
  <Loading v-if="q.isPending.value" />
  <p v-if="since" class="mb-2 text-slate">
    Since <Moment :at="since" />. <RouterLink to="/journal">Show all entries</RouterLink>
  </p>
  <p v-if="q.data.value?.next" class="mb-2 text-slate">
    Shows the newest {{ q.data.value.items.length }}.
    <button v-if="limit < 1000" class="text-tide underline" @click="limit = 1000">Show more</button>
    <template v-else>For older entries, filter, or download the list.</template>
  </p>
  <DataTable
    v-if="q.data.value"
    :id="(e) => e.number"
    :columns="columns"
    :rows="q.data.value.items"
    :filter="text"
    empty="No entries."
  >
    <template #at="{ row: e }"><Moment :at="e.at" /></template>
    <template #action="{ row: e }">
      <button class="hover:underline" :aria-label="`Entry ${e.number}, ${e.action}`" @click="open = e">
        {{ e.action }}
      </button>
    </template>
    <template #detail="{ row: e }">{{ said(e) }}</template>
  </DataTable>
  <Modal v-if="open" open wide :title="`Entry ${open.number}: ${open.action}`" @close="open = null">
    <dl class="facts">
      <dt>When</dt>
      <dd>{{ absolute(open.at) }}</dd>
      <dt>By</dt>
      <dd>{{ open.by }}</dd>
      <dt>Object</dt>
      <dd>{{ open.object }}</dd>
      <template v-for="[k, v] in Object.entries(open.detail ?? {}).filter(([, v]) => v)" :key="k">
        <dt>{{ k.replace(/_/g, ' ') }}</dt>
        <dd class="whitespace-pre-line">{{ v }}</dd>
      </template>
    </dl>
    <div class="mt-4 flex justify-end"><button class="btn" @click="open = null">Close</button></div>
  </Modal>
</template>
