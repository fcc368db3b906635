<script setup lang="ts">
// Which sources offer a package now, and which one machines of each group would install, and why.
import { useQueryClient } from '@tanstack/vue-query'
import { computed, onMounted, ref } from 'vue'
import { lacks, post, type Job, type Where } from '../../api'
import Act from '../../parts/Act.vue'
import { count, size } from '../../format'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import JobRun from '../../parts/JobRun.vue'
import Mark from '../../parts/Mark.vue'
import Moment from '../../parts/Moment.vue'
import Take from '../../parts/Take.vue'
import Term from '../../parts/Term.vue'
import Trouble from '../../parts/Trouble.vue'

type Held = Where['has'][number]
const client = useQueryClient()
const props = defineProps<{ name: string }>()
defineEmits<{ other: [name: string] }>()
const job = ref<Job | null>(null)
const found = ref<Where | null>(null)
const at = ref('')
const error = ref<unknown>(null)
const mayAsk = computed(() => !lacks('where'))
onMounted(() => {
  if (mayAsk.value) ask()
})
async function ask() {
  error.value = null
  found.value = null
  try {
    job.value = await post<Job>('/packages/where', { name: props.name })
  } catch (e) {
    error.value = e
  }
}
function ended(j: Job) {
  job.value = null
  at.value = j.ended ?? ''
  if (j.state === 'done') found.value = j.result as Where
  else error.value = new Error(j.problem || 'the job was ' + j.state)
  client.invalidateQueries()
}
const of = (source: string) => found.value?.asked.find((s) => s.source === source)
const columns: Column<Held>[] = [
  { key: 'source', title: 'Source', value: (h) => h.source },
  { key: 'version', title: 'Version', class: 'mono', value: (h) => h.version },
  { key: 'arch', title: 'Architecture', value: (h) => h.architecture },
  { key: 'priority', title: 'Priority', num: true, value: (h) => of(h.source)?.priority },
  { key: 'standing', title: 'Standing', value: (h) => of(h.source)?.standing },
  { key: 'size', title: 'Size', num: true, value: (h) => h.size },
  { key: 'licence', title: 'Licence', value: (h) => h.licence || '–' },
  { key: 'origin', title: 'Built from', value: (h) => h.origin || '–' },
  { key: 'built', title: 'Built', value: (h) => h.built ?? '' },
  { key: 'made', title: 'Metadata made', value: (h) => of(h.source)?.root_date },
]
const seeing = computed(() => (found.value?.groups ?? []).filter((g) => !g.none))
const without = computed(() => (found.value?.groups ?? []).filter((g) => g.none).map((g) => g.group))
</script>
<template>
  <div>
    <Trouble :error="error" class="mb-4" />
    <JobRun v-if="job" :job="job" class="mb-4" @end="ended" />
    <div v-if="!job && !found && !error" class="panel flex items-center gap-3 px-3 py-2">
      <span class="text-slate">The sources were not contacted for their current packages.</span>
      <Act does="where" class="btn" @click="ask">Check sources now</Act>
    </div>
    <div v-if="found" class="space-y-5">
      <section>
        <div class="mb-1.5 flex items-center gap-3">
          <h2>Offered now</h2>
          <span class="text-slate"
            >{{ count(found.asked.length, 'source', 'sources') }} checked <Moment :at="at"
          /></span>
          <Act does="where" class="btn ml-auto" :disabled="!!job" @click="ask">Check again</Act>
          <Take v-if="found.has.length" :name="'package-' + found.name" :rows="found.has" />
        </div>
        <DataTable
          v-if="found.has.length"
          :id="(h) => h.source + h.version + h.architecture"
          :columns="columns"
          :rows="found.has"
          empty=""
        >
          <template #source="{ row: h }">
            <RouterLink :to="'/sources/' + h.source" class="font-medium">{{ h.source }}</RouterLink>
          </template>
          <template #size="{ row: h }">{{ size(h.size) }}</template>
          <template #built="{ row: h }"
            ><Moment v-if="h.built" :at="h.built" /><span v-else class="text-slate">unknown</span></template
          >
          <template #made="{ row: h }"><Moment :at="of(h.source)?.root_date" /></template>
        </DataTable>
        <p v-else class="panel px-3 py-2">
          None of the sources has a package with this name.<template v-if="found.near?.length">
            Did you mean one of these?</template
          >
          <template v-for="n in found.near ?? []" :key="n">
            <button class="btn ml-2 !h-6" @click="$emit('other', n)">{{ n }}</button>
          </template>
        </p>
        <p v-for="u in found.unread" :key="u.source" class="mt-1.5">
          <Mark kind="warning" word="unknown" /> for <b class="font-semibold">{{ u.source }}</b>: {{ u.why }}
        </p>
        <p v-if="found.provided.length" class="mt-1.5 text-slate">
          Provided by
          {{ found.provided.map((p) => `${p.name} ${p.version} of ${p.source}`).join(', ') }}.
        </p>
      </section>
      <section v-if="found.has.length && found.groups.length">
        <h2 class="mb-1.5">Candidate for each group<Term of="priority" /></h2>
        <div class="panel overflow-x-auto">
          <table class="grid-table">
            <thead>
              <tr>
                <th>Group</th>
                <th>Lane</th>
                <th>Version</th>
                <th>Source</th>
                <th>State</th>
                <th>Why</th>
              </tr>
            </thead>
            <tbody>
              <template v-for="g in seeing" :key="g.group + g.architecture">
                <tr v-for="(o, i) in g.offers" :key="o.source + o.version + o.architecture">
                  <td class="whitespace-nowrap">
                    <template v-if="!i"
                      ><b class="font-semibold">{{ g.group }}</b> ({{ g.architecture }})</template
                    >
                  </td>
                  <td>{{ i ? '' : g.lane }}</td>
                  <td class="mono whitespace-nowrap">{{ o.version }}</td>
                  <td>{{ o.source }}</td>
                  <td class="whitespace-nowrap">
                    <Mark :kind="o.taken ? 'good' : 'none'" :word="o.taken ? 'candidate' : 'not chosen'" />
                  </td>
                  <td>{{ o.why }}</td>
                </tr>
                <tr v-if="g.why" :key="g.group + g.architecture + 'why'">
                  <td class="whitespace-nowrap">
                    <b class="font-semibold">{{ g.group }}</b> ({{ g.architecture }})
                  </td>
                  <td>{{ g.lane }}</td>
                  <td colspan="4"><Mark kind="warning" :word="g.why" /></td>
                </tr>
              </template>
            </tbody>
          </table>
        </div>
        <p v-if="without.length" class="mt-1.5 text-slate">
          No source that these groups see has it: {{ without.join(', ') }}.
        </p>
      </section>
    </div>
  </div>
</template>
