<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { call, get, type Installed, type Machine } from '../../api'
import { count, size } from '../../format'
import Act from '../../parts/Act.vue'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import Findings from '../../parts/Findings.vue'
import Loading from '../../parts/Loading.vue'
import Mark from '../../parts/Mark.vue'
import Moment from '../../parts/Moment.vue'
import Question from '../../parts/Question.vue'
import Tabs from '../../parts/Tabs.vue'
import Take from '../../parts/Take.vue'
import Trouble from '../../parts/Trouble.vue'
import Kit from '../machines/Kit.vue'
import Change from './Change.vue'
import Report from './Report.vue'

const props = defineProps<{ name: string }>()
const client = useQueryClient()
const router = useRouter()
const q = useQuery({
  queryKey: ['machine', props.name],
  queryFn: () => get<Machine>('/machines/' + encodeURIComponent(props.name)),
})
const m = computed(() => q.data.value)
const words: Record<string, ['good' | 'warning' | 'error' | 'note' | 'none', string]> = {
  behind: ['none', 'update available'],
  held: ['note', 'held by a pin'],
  stranded: ['warning', 'not in any source'],
  ahead: ['note', 'ahead'],
  unknown: ['none', 'unknown'],
  current: ['good', 'current'],
}
function stateOf(x: Installed) {
  const word = x.hold ? 'held by the machine' : words[x.state][1]
  return x.unfinished ? `${word}, ${x.unfinished}` : word
}
const state = ref('')
const text = ref('')
const items = computed(() =>
  (m.value?.items ?? []).filter(
    (x) =>
      (!state.value || (state.value === 'security' ? x.security : x.state === state.value)) &&
      x.name.includes(text.value.trim()),
  ),
)
const kinds = computed(() => {
  const of = m.value
  if (!of) return []
  const all: [string, string, number][] = [
    ['', 'all', of.items.length],
    [
      'security',
      (of.security_unknown ? 'known ' : '') + 'security update' + (of.security === 1 ? '' : 's'),
      of.security,
    ],
    ['behind', (of.behind === 1 ? 'update' : 'updates') + ' available', of.behind],
    ['held', 'held', of.held],
    ['stranded', 'not in any source', of.stranded],
    ['ahead', 'ahead', of.ahead],
    ['unknown', 'unknown', of.unknown],
  ]
  return all.filter(([key, , n]) => n || !key)
})
const columns: Column<Installed>[] = [
  { key: 'name', title: 'Package', class: 'font-medium', value: (x) => x.name },
  { key: 'arch', title: 'Architecture', value: (x) => x.arch || '–' },
  { key: 'version', title: 'Installed', class: 'mono', value: (x) => x.version },
  { key: 'offered', title: 'Candidate', term: 'offered', class: 'mono', value: (x) => x.offered || '–' },
  { key: 'from', title: 'From', value: (x) => x.from || '–' },
  { key: 'state', title: 'State', value: (x) => x.state },
  { key: 'size', title: 'Size', num: true, value: (x) => x.size ?? 0 },
  { key: 'advisories', title: 'Advisories', class: 'mono', value: (x) => x.advisories?.join(', ') || '–' },
]
const changing = ref(false)
const removing = ref(false)
const error = ref<unknown>(null)
async function remove() {
  error.value = null
  removing.value = false
  try {
    await call('DELETE', '/machines/' + encodeURIComponent(props.name))
    client.invalidateQueries()
    router.push('/machines?tab=1')
  } catch (e) {
    error.value = e
  }
}
</script>
<template>
  <Trouble :error="q.error.value ?? error" class="mb-4" />
  <Loading v-if="q.isPending.value" />
  <template v-if="m">
    <div class="mb-3 flex items-center gap-3">
      <h1>{{ m.name }}</h1>
      <span v-if="m.note" class="min-w-0 break-words text-slate">{{ m.note }}</span>
      <span class="ml-auto" />
      <Act does="changeMachine" @click="changing = true">Change</Act>
      <Act does="removeMachine" @click="removing = true">Remove</Act>
    </div>
    <div class="mb-4 grid grid-cols-[minmax(0,1fr)_minmax(0,1fr)] items-start gap-4">
      <dl class="panel facts px-3 py-2.5">
        <dt>Group</dt>
        <dd>
          <RouterLink :to="'/machines?group=' + m.group">{{ m.group }}</RouterLink>
        </dd>
        <dt>Lane</dt>
        <dd>
          {{ m.lane || '–'
          }}<template v-if="m.edition"
            >, which shows
            <RouterLink :to="'/editions/' + m.edition" class="mono">{{ m.edition }}</RouterLink></template
          ><template v-else>, which shows nothing yet</template>
        </dd>
        <dt>Reported</dt>
        <dd>
          <template v-if="m.reported"><Moment :at="m.reported" />, imported by {{ m.reported_by }}</template
          ><span v-else class="text-slate">never: its installed packages are unknown</span>
        </dd>
        <dt>Enrolled</dt>
        <dd><Moment :at="m.enrolled" /> by {{ m.by }}</dd>
      </dl>
      <div class="panel px-3 py-2.5">
        <p v-if="m.problem"><Mark kind="warning" word="Not compared" />: {{ m.problem }}</p>
        <p v-else-if="!m.reported" class="text-slate">
          When a report is imported, Stockade compares each package with its candidate on the lane.
        </p>
        <p v-else-if="!m.against"><Mark kind="busy" word="Comparing" /></p>
        <template v-else>
          <p>
            {{ count(m.installed, 'package') }} installed, {{ m.current.toLocaleString('en') }} current.
            {{ m.behind ? count(m.behind, 'update') : 'No updates' }} available on
            <code class="whitespace-nowrap">{{ m.against }}</code><template v-if="m.behind">
              ({{ size(m.bytes) }}, plus dependencies)</template
            >.
            <template v-if="!m.compared"
              >The lane showed this edition before; Stockade is comparing the machine again.</template
            >
          </p>
          <p class="mt-1 text-slate">
            Stockade compares each package by itself, as the client would update it. Packages that would have
            to be added, removed or replaced with it are not included.
          </p>
        </template>
      </div>
    </div>
    <div v-if="m.findings.length" class="panel mb-4"><Findings :findings="m.findings" /></div>
    <Tabs :names="['Packages', 'Report', 'Files']">
      <template #0>
        <div v-if="m.items.length" class="mb-2 flex flex-wrap items-center gap-2">
          <span class="flex gap-1" role="group" aria-label="Which packages">
            <button
              v-for="[key, word, n] in kinds"
              :key="key"
              class="btn !h-6"
              :class="state === key ? '!border-tide !text-tide' : ''"
              :aria-pressed="state === key"
              @click="state = key"
            >
              {{ n.toLocaleString('en') }} {{ word }}
            </button>
          </span>
          <input v-model="text" class="field !w-44" placeholder="Filter" aria-label="Filter the packages" />
          <Take class="ml-auto" :name="m.name + '-packages'" :rows="items" />
        </div>
        <DataTable
          :id="(x) => x.name + ' ' + x.arch + ' ' + x.version"
          :columns="columns"
          :rows="items"
          :filter="state + text"
          :empty="
            m.against && !m.problem
              ? 'Every package is current on ' + m.against + '.'
              : 'Not compared yet. Import a report first.'
          "
        >
          <template #state="{ row: x }">
            <Mark :kind="words[x.state][0]" :word="stateOf(x)" />
            <Mark v-if="x.security" kind="warning" word="security" class="ml-2" />
          </template>
          <template #size="{ row: x }">{{ x.size ? size(x.size) : '–' }}</template>
        </DataTable>
      </template>
      <template #1><Report :machine="m.name" :prints="m.prints" /></template>
      <template #2
        ><Kit v-if="m.edition" :group="m.group" />
        <p v-else class="text-slate">
          Its lane shows no edition yet, so there are no files for it.
        </p></template
      >
    </Tabs>
    <Change v-if="changing" :machine="m" @close="changing = false" />
    <Question
      :open="removing"
      :title="'Remove ' + m.name"
      verb="Remove"
      stop
      @close="removing = false"
      @yes="remove"
    >
      <p>Its reports are removed too. The machine itself does not change and still follows its lane.</p>
    </Question>
  </template>
</template>
