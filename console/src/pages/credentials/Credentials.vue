<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { call, get, type Credential, type Told, type Page } from '../../api'
import Count from '../../parts/Count.vue'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import Findings from '../../parts/Findings.vue'
import Loading from '../../parts/Loading.vue'
import Mark from '../../parts/Mark.vue'
import Moment from '../../parts/Moment.vue'
import Question from '../../parts/Question.vue'
import New from '../../parts/New.vue'
import Take from '../../parts/Take.vue'
import Trouble from '../../parts/Trouble.vue'
import Give from './Give.vue'
import Act from '../../parts/Act.vue'

const client = useQueryClient()
const q = useQuery({
  queryKey: ['credentials'],
  queryFn: () => get<Page<Credential>>('/credentials'),
})
const rows = computed(() => q.data.value?.items ?? [])
// What is told of proxies and authorities stands here as well: they have no page of their own.
const told = useQuery({
  queryKey: ['findings', 'proxy,authority'],
  queryFn: () => get<Told>('/findings?kind=proxy,authority'),
})
const found = computed(() => [
  ...rows.value.flatMap((c) => c.findings),
  ...(told.data.value?.needs_you ?? []),
])
const columns: Column<Credential>[] = [
  { key: 'name', title: 'Credential', value: (c) => c.name },
  { key: 'kind', title: 'Kind', value: (c) => (c.user ? `${c.kind} of ${c.user}` : c.kind) },
  { key: 'hosts', title: 'Sent to', class: 'mono' },
  { key: 'given', title: 'Secret', value: (c) => c.given },
  { key: 'used', title: 'Used by', value: (c) => c.used_by.join(', ') || 'none' },
  { key: 'findings', title: 'Findings', value: (c) => c.findings.length },
  { key: 'act', title: '' },
]
const giving = ref<Credential | null>(null)
const forgetting = ref<Credential | null>(null)
const error = ref<unknown>(null)
function done() {
  giving.value = null
  forgetting.value = null
  client.invalidateQueries()
}
async function forget() {
  error.value = null
  try {
    await call('DELETE', '/credentials/' + encodeURIComponent(forgetting.value!.name) + '/secret')
    done()
  } catch (e) {
    error.value = e
    forgetting.value = null
  }
}
</script>
<template>
  <div class="mb-1 flex items-center gap-3">
    <h1>Credentials</h1>
    <Take class="ml-auto" name="credentials" :rows="rows" />
    <New of="credential" />
    <New of="proxy" />
  </div>
  <p class="mb-4 text-slate">
    Logins for upstreams and proxies. The definition says what kind a credential is and which hosts it belongs
    to. Stockade keeps its secret encrypted and never shows it.
  </p>
  <Trouble :error="q.error.value ?? error" class="mb-4" />
  <Loading v-if="q.isPending.value" />
  <DataTable
    v-if="q.data.value"
    :id="(c) => c.name"
    :columns="columns"
    :rows="rows"
    empty="No credentials. A source that needs a login names one under credential in its definition."
  >
    <template #hosts="{ row: c }">{{ c.hosts.join(', ') }}</template>
    <template #given="{ row: c }">
      <span v-if="c.given" class="whitespace-nowrap">
        saved <Moment :at="c.given" /> by {{ c.by
        }}<template v-if="c.until">, ends <Moment :at="c.until" /></template>
      </span>
      <Mark v-else kind="warning" word="missing" />
    </template>
    <template #findings="{ row: c }"><Count :findings="c.findings" /></template>
    <template #act="{ row: c }">
      <span class="flex justify-end gap-2 whitespace-nowrap">
        <Act does="giveSecret" class="!h-6" @click="giving = c">{{
          c.given ? 'Replace secret' : 'Add secret'
        }}</Act>
        <Act v-if="c.given" does="forgetSecret" class="!h-6" @click="forgetting = c">Remove secret</Act>
      </span>
    </template>
  </DataTable>
  <div v-if="found.length" class="panel mt-4"><Findings :findings="found" /></div>
  <Give v-if="giving" :of="giving" @close="giving = null" @done="done" />
  <Question
    v-if="forgetting"
    open
    stop
    :title="'Remove the secret of ' + forgetting.name"
    verb="Remove"
    @close="forgetting = null"
    @yes="forget"
  >
    <p v-if="forgetting.used_by.length">
      {{ forgetting.used_by.join(', ') }} cannot show it any more, until it is given again.
    </p>
    <p v-else>No source uses it.</p>
  </Question>
</template>
