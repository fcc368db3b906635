<script setup lang="ts">
// The machines that are enrolled, with what came of comparing what each has installed with what its
// lane shows: filtered and paged by the service.
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { get, post, type Machine, type Machines } from '../../api'
import Act from '../../parts/Act.vue'
import Count from '../../parts/Count.vue'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import Loading from '../../parts/Loading.vue'
import Modal from '../../parts/Modal.vue'
import Moment from '../../parts/Moment.vue'
import Take from '../../parts/Take.vue'
import Trouble from '../../parts/Trouble.vue'

const props = defineProps<{ counts: Machines['groups'] }>()
const client = useQueryClient()
const route = useRoute()
const router = useRouter()
const asked = (key: string) =>
  computed({
    get: () => String(route.query[key] ?? ''),
    set: (v) => router.replace({ query: { ...route.query, [key]: v || undefined } }),
  })
const state = asked('state')
const group = asked('in')
const text = asked('q')
const limit = ref(200)
const path = computed(
  () =>
    '/machines?' +
    new URLSearchParams({ state: state.value, group: group.value, q: text.value.trim() }).toString(),
)
const q = useQuery({
  queryKey: ['machines', path, limit],
  queryFn: () => get<Machines>(path.value + '&limit=' + limit.value),
  placeholderData: (old: Machines | undefined) => old,
})
const groups = useQuery({
  queryKey: ['names'],
  queryFn: () => get<{ names: Record<string, string[]> }>('/definitions/names'),
})
const sum = (of: 'machines' | 'security' | 'behind' | 'stranded' | 'ahead' | 'held') =>
  props.counts.filter((n) => !group.value || n.group === group.value).reduce((all, n) => all + n[of], 0)
const states = computed<[string, string, number | undefined][]>(() => [
  ['', 'all', sum('machines')],
  ['security', 'with security updates', sum('security')],
  ['behind', 'behind', sum('behind')],
  ['stranded', 'with packages not in any source', sum('stranded')],
  ['held', 'held', sum('held')],
  ['ahead', 'ahead', sum('ahead')],
  ['current', 'current', undefined],
  ['stale', 'report too old', undefined],
  ['silent', 'never reported', undefined],
  ['unknown', 'partly unknown', undefined],
])
const known = (m: Machine) => !!m.against && !m.problem
const number = (of: (m: Machine) => number) => (m: Machine) => (known(m) ? of(m) : undefined)
const columns: Column<Machine>[] = [
  { key: 'name', title: 'Machine', class: 'font-medium whitespace-nowrap', value: (m) => m.name },
  { key: 'group', title: 'Group', class: 'whitespace-nowrap', value: (m) => m.group },
  { key: 'lane', title: 'Lane', wide: true, value: (m) => m.lane || '–' },
  { key: 'reported', title: 'Reported', value: (m) => m.reported ?? '' },
  { key: 'against', title: 'Edition', value: (m) => m.against },
  { key: 'security', title: 'Security', num: true, term: 'security', value: number((m) => m.security) },
  { key: 'behind', title: 'Updates', num: true, term: 'behind', value: number((m) => m.behind) },
  {
    key: 'stranded',
    title: 'No source',
    num: true,
    term: 'stranded',
    value: number((m) => m.stranded),
  },
  { key: 'held', title: 'Held', num: true, wide: true, term: 'held', value: number((m) => m.held) },
  { key: 'ahead', title: 'Ahead', num: true, term: 'ahead', value: number((m) => m.ahead) },
  { key: 'findings', title: 'Findings', value: (m) => m.findings.length },
]
const counted = ['behind', 'stranded', 'held', 'ahead'] as const
/** How many security updates wait, where that is known. */
const security = (m: Machine) =>
  !m.security_unknown
    ? m.security.toLocaleString('en')
    : m.security
      ? `${m.security.toLocaleString('en')}+`
      : 'unknown'
const adding = ref(false)
const names = ref('')
const to = ref('')
const note = ref('')
const error = ref<unknown>(null)
const busy = ref(false)
const named = computed(() => names.value.split(/[\s,]+/).filter(Boolean))
async function enrol() {
  error.value = null
  busy.value = true
  try {
    await post('/machines', { names: named.value, group: to.value, note: note.value.trim() })
    adding.value = false
    names.value = note.value = ''
    client.invalidateQueries()
  } catch (e) {
    error.value = e
  } finally {
    busy.value = false
  }
}
</script>
<template>
  <div class="mb-2 flex flex-wrap items-center gap-2">
    <select v-model="state" class="field !w-48" aria-label="State">
      <option v-for="[key, word, n] in states" :key="key" :value="key">
        {{ word }}{{ n === undefined ? '' : ` (${n})` }}
      </option>
    </select>
    <select v-model="group" class="field !w-36" aria-label="Group">
      <option value="">all groups</option>
      <option v-for="n in counts" :key="n.group" :value="n.group">{{ n.group }}</option>
    </select>
    <input
      v-model.lazy="text"
      class="field !w-52"
      placeholder="Name or note, then Enter"
      aria-label="Search the machines"
    />
    <Take class="ml-auto" name="machines" :rows="q.data.value?.items ?? []" :path="path" />
    <Act does="enrol" class="btn-go" @click="adding = true">Enrol machines</Act>
  </div>
  <Trouble :error="q.error.value" class="mb-3" />
  <Loading v-if="q.isPending.value" />
  <p v-if="q.data.value?.next" class="mb-2 text-slate">
    {{ q.data.value.items.length }} of {{ q.data.value.matching.toLocaleString('en') }} are shown, by name.
    <button v-if="limit < 1000" class="text-tide underline" @click="limit = 1000">Show more</button>
    <template v-else>Filter, or download the list.</template>
  </p>
  <DataTable
    v-if="q.data.value"
    :id="(m) => m.name"
    :columns="columns"
    :rows="q.data.value.items"
    :filter="state + group + text"
    :fixed="!!q.data.value.next"
    :empty="'No machines. Enrol some, then import a report of each: Stockade compares it with the edition on its lane.'"
  >
    <template #name="{ row: m }">
      <RouterLink :to="'/machines/' + m.name">{{ m.name }}</RouterLink>
    </template>
    <template #reported="{ row: m }">
      <Moment v-if="m.reported" :at="m.reported" /><span v-else class="text-slate">never</span>
    </template>
    <template #against="{ row: m }">
      <span v-if="!m.against || m.problem" class="text-slate">not yet</span
      ><template v-else
        ><code>{{ m.against }}</code
        ><span v-if="!m.compared" class="ml-1 text-slate">(before)</span></template
      >
    </template>
    <template v-for="k in counted" :key="k" #[k]="{ row: m }">{{
      known(m) ? m[k].toLocaleString('en') : '–'
    }}</template>
    <template #security="{ row: m }"
      ><span
        :title="
          known(m) && m.security_unknown
            ? 'Updates without security information: ' + m.security_unknown
            : undefined
        "
        >{{ known(m) ? security(m) : '–' }}</span
      ></template
    >
    <template #findings="{ row: m }"
      ><Count v-if="m.findings.length || known(m)" :findings="m.findings" /><span v-else class="text-slate"
        >unknown</span
      ></template
    >
  </DataTable>
  <Modal :open="adding" title="Enrol machines" @close="adding = false">
    <form @submit.prevent="enrol">
      <label for="machine-names" class="mb-1 block">Names, separated by blanks or line breaks</label>
      <textarea
        id="machine-names"
        v-model="names"
        class="field mono !h-24"
        placeholder="gate-north gate-south"
      />
      <label for="machine-group" class="mt-3 mb-1 block">Group</label>
      <select id="machine-group" v-model="to" class="field" required>
        <option v-for="g in groups.data.value?.names.group ?? []" :key="g">{{ g }}</option>
      </select>
      <label for="machine-note" class="mt-3 mb-1 block">Note (optional)</label>
      <input
        id="machine-note"
        v-model="note"
        class="field"
        maxlength="500"
        placeholder="behind the pump house"
      />
      <Trouble :error="error" class="mt-3" />
      <div class="mt-4 flex justify-end gap-2">
        <button type="button" class="btn" @click="adding = false">Cancel</button>
        <button class="btn btn-go" :disabled="busy || !named.length || !to">
          {{ named.length > 1 ? `Enrol ${named.length}` : 'Enrol' }}
        </button>
      </div>
    </form>
  </Modal>
</template>
