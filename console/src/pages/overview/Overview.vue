<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, onMounted, onUnmounted, ref } from 'vue'
import { call, get, type Overview, type Told, type Visit } from '../../api'
import { absolute, count, size } from '../../format'
import JobRun from '../../parts/JobRun.vue'
import Loading from '../../parts/Loading.vue'
import Mark from '../../parts/Mark.vue'
import Moment from '../../parts/Moment.vue'
import Term from '../../parts/Term.vue'
import Trouble from '../../parts/Trouble.vue'
import Act from '../../parts/Act.vue'
import Needs from './Needs.vue'
import Path from './Path.vue'
import Since from './Since.vue'
const client = useQueryClient()
const since = ref('')
const q = useQuery({
  queryKey: ['overview', since],
  queryFn: () => get<Overview>('/overview' + (since.value ? '?since=' + since.value : '')),
  placeholderData: (old: Overview | undefined) => old,
})
const error = ref<unknown>(null)
// The visit lasts while somebody looks.
const note = () =>
  call<Visit>('PUT', '/visit')
    .then((v) => (since.value = v.since ?? ''))
    .catch(() => {})
onMounted(note)
const lasting = setInterval(() => document.hidden || note(), 5 * 60_000)
onUnmounted(() => clearInterval(lasting))
const asideOpen = ref(false)
const aside = useQuery({
  queryKey: ['findings', 'aside'],
  queryFn: () => get<Told>('/findings'),
  enabled: asideOpen,
})
async function takeUp(a: Told['aside'][number]) {
  const f = a.finding
  const q = new URLSearchParams({
    object: f.object ?? '',
    code: f.code,
    cause: f.cause ?? '',
    severity: f.severity,
    text: f.text,
  })
  error.value = null
  try {
    await call('DELETE', '/aside?' + q)
  } catch (e) {
    error.value = e
  }
  client.invalidateQueries()
}
const needs = computed(() => (q.data.value?.errors ?? 0) + (q.data.value?.warnings ?? 0))
/** How many of a list have no place here. */
const further = (list: { items: unknown[]; all: number }) => list.all - list.items.length
/** What is known of the machines of a lane, in words. */
function state(m: Overview['machines']['items'][number]) {
  if (!m.reported) return 'none reported yet'
  const all: [number, string][] = [
    [m.security, 'with security updates'],
    [m.security_unknown, 'with updates without security information'],
    [m.behind, 'with updates'],
    [m.stranded, 'with packages not in any source'],
    [m.held, 'held by a pin'],
    [m.unknown, 'partly unknown'],
    [m.machines - m.reported, 'never reported'],
  ]
  const said = all.filter(([n]) => n).map(([n, what]) => `${n} ${what}`)
  if (m.compared < m.reported) said.push(`${m.reported - m.compared} not compared yet`)
  return said.join(', ') || 'all current'
}
/** The days of a strip on which something was published, or nothing, as one path. */
const strip = (s: Overview['sources']['items'][number], published: boolean) =>
  s.published.map((n, i) => (!!n === published ? `M${i * 3 + 1} 16V${published ? 0 : 12}` : '')).join('')
</script>
<template>
  <h1 class="mb-4">Overview</h1>
  <Trouble :error="q.error.value ?? error" class="mb-4" />
  <Loading v-if="q.isPending.value" />
  <div
    v-if="q.data.value"
    class="grid grid-cols-[minmax(0,1fr)_320px] max-[1199px]:grid-cols-[minmax(0,1fr)_220px] items-start gap-5"
  >
    <div class="min-w-0 space-y-5">
      <Path v-if="q.data.value.first?.length" :steps="q.data.value.first" />
      <Since v-if="q.data.value.since" :of="q.data.value.since" />
      <section>
        <div class="mb-1.5 flex items-center gap-3">
          <h2>Needs attention</h2>
          <span class="text-slate">{{ needs || '' }}</span>
        </div>
        <div class="panel">
          <Needs v-if="needs" :lines="q.data.value.needs" />
          <p v-else class="px-3 py-3">
            <template v-if="q.data.value.sources.all"
              ><Mark v-if="q.data.value.aside" kind="note" word="Nothing, except snoozed findings." /><Mark
                v-else
                kind="good"
                word="No problems found in what was checked."
              />
              <span class="ml-2 text-slate"
                ><template v-if="q.data.value.looked.sources"
                  >Sources in use were checked <Moment :at="q.data.value.looked.sources" /> or later</template
                ><template v-else>Some sources were not checked yet</template>; journal, records and seals
                <Moment :at="q.data.value.looked.journal" />.</span
              ></template
            ><template v-else
              >Nothing is defined yet. Add a document or files of a machine under
              <RouterLink to="/describe">Definitions</RouterLink>, or run
              <code>stockade record FILE</code>.</template
            >
          </p>
        </div>
      </section>
      <details v-if="q.data.value.aside" @toggle="asideOpen = ($event.target as HTMLDetailsElement).open">
        <summary class="cursor-pointer text-slate">
          {{ count(q.data.value.aside, 'finding') }} snoozed
        </summary>
        <Trouble :error="aside.error.value" />
        <div class="panel mt-1.5 divide-y divide-line/60">
          <div v-for="(a, i) in aside.data.value?.aside" :key="i" class="flex gap-3 px-3 py-2">
            <Mark :kind="a.finding.severity" />
            <p class="min-w-0 flex-1">
              <b class="font-semibold">{{ a.finding.object }}</b>: {{ a.finding.text }}
              <span class="block text-slate"
                >until {{ absolute(a.until).slice(0, 10) }}, by {{ a.by }}: {{ a.reason }}</span
              >
            </p>
            <Act does="takeUp" dense class="!h-6" @click="takeUp(a)">Wake</Act>
          </div>
        </div>
      </details>
      <section v-if="q.data.value.jobs.length">
        <h2 class="mb-1.5">Running</h2>
        <div class="space-y-2">
          <div v-for="j in q.data.value.jobs" :key="j.id">
            <div class="mb-1 text-slate">{{ j.kind }} of {{ j.object }}, by {{ j.by }}</div>
            <JobRun :job="j" @end="client.invalidateQueries()" />
          </div>
        </div>
      </section>
      <section v-if="q.data.value.sources.all">
        <h2 class="mb-1.5">Sources, the last 90 days</h2>
        <div class="panel overflow-x-auto">
          <table class="grid-table">
            <thead>
              <tr>
                <th>Source</th>
                <th>Standing<Term of="standing" /></th>
                <th>Published</th>
                <th>Metadata made<Term of="root" /></th>
                <th>State</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="s in q.data.value.sources.items" :key="s.name">
                <td>
                  <RouterLink :to="'/sources/' + s.name" class="font-medium whitespace-nowrap">{{
                    s.name
                  }}</RouterLink>
                </td>
                <td>{{ s.standing }}</td>
                <td>
                  <svg
                    :viewBox="`0 0 ${s.published.length * 3} 16`"
                    class="h-4 w-[270px] max-[1199px]:w-[90px]"
                    preserveAspectRatio="none"
                    role="img"
                    :aria-label="
                      count(s.published.filter((n) => n).length, 'day') + ' with new release metadata'
                    "
                  >
                    <path :d="strip(s, false)" class="stroke-line" stroke-width="2" />
                    <path :d="strip(s, true)" class="stroke-tide" stroke-width="2" />
                  </svg>
                </td>
                <td class="whitespace-nowrap"><Moment :at="s.root_date" /></td>
                <td>
                  <Mark v-if="s.worst" :kind="s.worst as 'error'" :word="s.worst" /><Mark
                    v-else-if="s.disabled"
                    kind="none"
                    word="disabled"
                  />
                  <Mark v-else-if="!s.root_date" kind="none" word="not refreshed" /><Mark
                    v-else
                    kind="good"
                    word="good"
                  />
                </td>
              </tr>
            </tbody>
          </table>
          <p v-if="further(q.data.value.sources)" class="border-t border-line px-3 py-2">
            <RouterLink to="/sources">{{
              count(further(q.data.value.sources), 'further source')
            }}</RouterLink>
          </p>
        </div>
      </section>
    </div>
    <aside class="space-y-5">
      <section>
        <h2 class="mb-1.5">Lanes<Term of="lane" /></h2>
        <div class="panel divide-y divide-line/60">
          <div v-for="l in q.data.value.lanes.items" :key="l.name" class="px-3 py-2">
            <div class="flex">
              <RouterLink to="/lanes" class="font-medium">{{ l.name }}</RouterLink><RouterLink
                v-if="l.edition"
                :to="'/editions/' + l.edition"
                class="mono ml-auto"
                >{{ l.edition }}</RouterLink
              ><span v-else class="ml-auto text-slate">no edition yet</span>
            </div>
            <div class="text-slate">
              {{
                l.all > l.groups.length
                  ? `${l.all} groups`
                  : l.all
                    ? (l.all === 1 ? 'group ' : 'groups ') + l.groups.join(', ')
                    : 'no groups'
              }}
            </div>
          </div>
          <p v-if="further(q.data.value.lanes)" class="px-3 py-2">
            <RouterLink to="/lanes">{{ count(further(q.data.value.lanes), 'further lane') }}</RouterLink>
          </p>
          <p v-if="!q.data.value.lanes.all" class="px-3 py-2 text-slate">No lanes yet.</p>
        </div>
      </section>
      <section v-if="q.data.value.machines.all">
        <h2 class="mb-1.5">Machines</h2>
        <div class="panel divide-y divide-line/60">
          <div v-for="m in q.data.value.machines.items" :key="m.lane" class="px-3 py-2">
            <div class="flex">
              <RouterLink to="/machines?tab=1" class="font-medium">{{
                count(m.machines, 'machine')
              }}</RouterLink><span class="ml-auto text-slate">of {{ m.lane }}</span>
            </div>
            <div class="text-slate">{{ state(m) }}</div>
          </div>
          <p v-if="further(q.data.value.machines)" class="px-3 py-2">
            <RouterLink to="/machines?tab=1">{{
              count(further(q.data.value.machines), 'further lane')
            }}</RouterLink>
          </p>
        </div>
      </section>
      <section>
        <div class="mb-1.5 flex">
          <h2>Storage</h2>
          <RouterLink to="/storage" class="ml-auto">Details</RouterLink>
        </div>
        <div class="panel px-3 py-2.5">
          <dl class="facts">
            <dt>Editions</dt>
            <dd class="text-right">{{ q.data.value.editions }}</dd>
            <dt>Files in the pool</dt>
            <dd class="text-right">{{ q.data.value.pool_files.toLocaleString('en') }}</dd>
            <dt>Used</dt>
            <dd class="text-right">{{ size(q.data.value.pool_bytes) }}</dd>
            <dt>Free</dt>
            <dd class="text-right">{{ size(q.data.value.free_bytes) }}</dd>
          </dl>
        </div>
      </section>
      <section>
        <div class="mb-1.5 flex">
          <h2>Latest in the journal</h2>
          <RouterLink to="/journal" class="ml-auto">Show all</RouterLink>
        </div>
        <div class="panel divide-y divide-line/60">
          <div v-for="e in q.data.value.recent" :key="e.number" class="px-3 py-1.5" :title="absolute(e.at)">
            <div class="flex gap-2">
              <code>{{ e.action }}</code><Moment :at="e.at" class="ml-auto text-slate" />
            </div>
            <div class="truncate text-slate">{{ e.object }}</div>
          </div>
        </div>
      </section>
    </aside>
  </div>
</template>
