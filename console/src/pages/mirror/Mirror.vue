<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { get, post, type Job, type Lane, type Mirror, type Outcome, type Page, type Preview } from '../../api'
import { count, size, span } from '../../format'
import Changes from '../../parts/Changes.vue'
import Findings from '../../parts/Findings.vue'
import JobRun from '../../parts/JobRun.vue'
import Loading from '../../parts/Loading.vue'
import Mark from '../../parts/Mark.vue'
import Moment from '../../parts/Moment.vue'
import Proofs from '../../parts/Proofs.vue'
import Certified from './Certified.vue'
import Refusals from './Refusals.vue'
import Move from '../lanes/Move.vue'
import Edit from '../../parts/Edit.vue'
import Term from '../../parts/Term.vue'
import Trouble from '../../parts/Trouble.vue'
import Act from '../../parts/Act.vue'
import Lack from '../../parts/Lack.vue'
const props = defineProps<{ name: string }>()
const client = useQueryClient()
const q = useQuery({
  queryKey: ['mirror', props.name],
  queryFn: () => get<Mirror>('/mirrors/' + props.name),
})
const m = computed(() => q.data.value)
const job = ref<Job | null>(null)
const starting = ref(false) // a job was asked for, and there is no answer yet
const busy = computed(() => starting.value || !!job.value)
const last = ref<Job | null>(null)
const error = ref<unknown>(null)
watch(m, async (v) => {
  if (v?.job && !job.value) job.value = await get<Job>('/jobs/' + v.job)
})
async function start(verb: string, body?: unknown) {
  error.value = null
  last.value = null
  starting.value = true
  try {
    job.value = await post<Job>(`/mirrors/${props.name}/${verb}`, body)
  } catch (e) {
    error.value = e
  }
  starting.value = false
}
function ended(j: Job) {
  job.value = null
  last.value = j
  client.invalidateQueries()
}
const outcome = computed(() => (last.value?.result ?? null) as Outcome | null)
// What was sealed just now, and the lanes that can show it.
const sealed = computed(() => {
  const e = last.value?.kind === 'build' && last.value.state === 'done' ? outcome.value?.edition : undefined
  return e ? `${e.mirror}/${e.number}` : ''
})
const following = useQuery({
  queryKey: ['lanes'],
  queryFn: () => get<Page<Lane>>('/lanes'),
  enabled: computed(() => !!sealed.value),
})
const lanes = computed(() => (following.data.value?.items ?? []).filter((l) => l.mirror === props.name))
const moving = ref<{ lane: Lane; to: string } | null>(null)
const against = ref('') // the lane that a preview compares with; the newest edition if empty
const preview = computed(() =>
  last.value?.kind === 'preview' ? (last.value.result as Preview | null) : null,
)
const refused = computed(() => last.value?.findings.some((f) => f.severity === 'error') ?? false)
const findings = computed(() => (last.value ? last.value.findings : m.value?.findings) ?? [])
const proofs = computed(() => outcome.value?.proofs ?? [])
const refusals = computed(() => outcome.value?.refusals ?? [])
const certified = computed(() => outcome.value?.certified ?? [])
const short = computed(() => proofs.value.some((p) => p.proved < p.wanted || p.sets?.some((s) => !s.proved)))
const open = computed(() => findings.value.filter((f) => f.code === 'mirror.not-proved').length)
const shown = computed(() => {
  const what = proofs.value.some((p) => p.every) ? 'all packages' : 'all wanted packages'
  if (open.value) return `undecided for some packages; see the findings`
  return short.value ? `not ${what} can be installed` : `${what} can be installed by the groups below`
})
// What is proved: what is wanted, every package, or the whole way to install one.
const proving = ref('')
const about = ref('')
function prove() {
  start('prove', proving.value === 'for' ? { for: about.value.trim() } : { every: proving.value === 'every' })
}
/** What is wanted, in words. */
function wanted(w: NonNullable<Mirror['want']>) {
  if (w.everything) return 'everything'
  const said = (word: string, names?: string[]) => (names?.length ? [word + names.join(', ')] : [])
  return [
    ...said('', w.packages),
    ...said('packages that provide ', w.provides),
    ...said('sections ', w.sections),
    ...said('groups ', w.groups),
    ...said('built from ', w.built_from),
    ...said('lists ', w.lists),
    ...(w.alternatives === 'all' ? ['every alternative'] : []),
  ].join('; ')
}
// Editions on a line of time, the newest at the right; height by size.
const biggest = computed(() => Math.max(1, ...(m.value?.editions ?? []).map((e) => e.bytes)))
</script>
<template>
  <Trouble :error="q.error.value" />
  <Loading v-if="q.isPending.value" />
  <div v-if="m" class="space-y-5">
    <div class="flex flex-wrap items-center gap-3">
      <h1>{{ name }}</h1>
      <span class="whitespace-nowrap text-slate"
        >{{ m.copy }} · complete: {{ m.complete }} · keeps {{ count(m.keep, 'edition')
        }}<template v-if="m.schedule">
          · <code class="whitespace-nowrap">{{ m.schedule }}</code></template
        ></span
      >
      <div class="ml-auto flex gap-2">
        <span class="flex">
          <Act
            does="preview"
            dense
            class="!rounded-r-none"
            :disabled="busy"
            @click="start('preview', { lane: against })"
          >
            Preview
          </Act>
          <select
            v-model="against"
            class="field !w-44 !rounded-l-none border-l-0"
            aria-label="Edition to compare with"
          >
            <option value="">with newest edition</option>
            <option v-for="l in m.lanes" :key="l" :value="l">with lane {{ l }}</option>
          </select>
        </span>
        <Act does="estimate" dense :disabled="busy" @click="start('estimate')">Estimate</Act>
        <form class="flex" @submit.prevent="prove">
          <Act
            does="prove"
            dense
            class="!rounded-r-none"
            :disabled="busy || (proving === 'for' && !about.trim())"
            >Prove</Act
          >
          <select
            v-model="proving"
            class="field !w-40 border-l-0"
            :class="proving === 'for' ? '!rounded-none' : '!rounded-l-none'"
            aria-label="Packages to prove"
          >
            <option value="">wanted packages</option>
            <option value="every">every package</option>
            <option value="for">one package</option>
          </select>
          <input
            v-if="proving === 'for'"
            v-model="about"
            class="field mono !w-36 !rounded-l-none border-l-0"
            placeholder="name"
            aria-label="Name of the package"
          />
        </form>
        <Edit kind="mirror" :name="name" /><Act
          does="build"
          dense
          class="btn-go"
          :disabled="busy"
          @click="start('build')"
        >
          Build
        </Act>
      </div>
    </div>
    <Lack does="build" what="Building, proving and previewing" />
    <Trouble :error="error" />
    <JobRun v-if="job" :job="job" @end="ended" />
    <section v-if="last" class="panel p-3" role="status">
      <div class="flex items-center gap-3">
        <Mark
          v-if="last.state === 'done'"
          :kind="refused && last.kind !== 'prove' ? 'error' : short ? 'warning' : preview ? 'note' : 'good'"
          :word="
            {
              build: outcome?.unchanged
                ? 'no changes upstream, so no edition was made'
                : 'sealed ' + outcome?.edition?.mirror + '/' + outcome?.edition?.number,
              estimate: refused
                ? 'building now would seal nothing, because of errors'
                : outcome?.unchanged
                  ? 'no changes upstream: building now would make no edition'
                  : 'estimate of a build',
              preview: refused
                ? 'building now would seal nothing, because of errors'
                : preview?.against
                  ? `building now, compared with ${preview.against}`
                  : 'first build; no editions yet',
              prove: shown,
            }[last.kind]
          "
        /><Mark v-else kind="error" :word="last.kind + ' ' + last.state" /><span
          v-if="last.state !== 'done'"
          >{{ last.problem }}</span
        >
      </div>
      <p v-if="sealed && lanes.length" class="mt-2 flex flex-wrap items-center gap-2">
        <template v-for="l in lanes" :key="l.name">
          <Act
            v-if="l.edition !== sealed"
            does="move"
            dense
            class="!h-6"
            @click="moving = { lane: l, to: sealed }"
            >Move {{ l.name }} to it</Act
          >
          <span v-else class="flex items-center gap-2"
            ><Mark kind="good" :word="'on lane ' + l.name" /><RouterLink
              v-for="g in l.groups.slice(0, 3)"
              :key="g"
              class="btn !h-6"
              :to="'/machines?group=' + g"
              >Files of {{ g }}</RouterLink
            ></span
          >
        </template>
      </p>
      <div v-if="preview" class="mt-3">
        <p class="mb-2 text-slate">
          {{ count(preview.changes.length, 'change') }}. No package was fetched for this: what would be found
          inside them is not known yet.
        </p>
        <Changes :changes="preview.changes" scroll="320px" empty="A build would not change any packages." />
      </div>
      <Proofs v-if="proofs.length" class="mt-3" :proofs="proofs" />
      <p v-if="last.kind === 'prove' && proofs.length" class="mt-2 text-slate">
        The proof uses what the indexes say of packages now. A build also verifies the content of the files.
      </p>
      <dl
        v-if="
          outcome && last.state === 'done' && last.kind !== 'prove' && !outcome.unchanged && outcome.packages
        "
        class="mt-3 grid grid-cols-6 gap-4"
      >
        <div
          v-for="[h, v] in [
            ['Packages', outcome.packages.toLocaleString('en')],
            ['Wanted by name', outcome.wanted.toLocaleString('en')],
            ['Size', size(outcome.bytes)],
            ['To download', size(outcome.fetch_bytes) + ' in ' + count(outcome.fetch_files, 'file')],
            [
              'Download time',
              outcome.seconds < 0 ? 'unknown' : 'about ' + span(Math.max(1, outcome.seconds)),
            ],
            ['Free on disk', size(outcome.free_bytes)],
          ]"
          :key="h"
        >
          <dt class="text-slate">{{ h }}</dt>
          <dd class="text-[15px] font-medium">{{ v }}</dd>
        </div>
      </dl>
    </section>
    <section v-if="refusals.length">
      <h2 class="mb-1.5">Reasons and possible fixes</h2>
      <Refusals :refusals="refusals" :of="outcome?.refused ?? 0" :mirror="name" />
    </section>
    <section v-if="certified.length" class="space-y-3">
      <h2>Packages to be installed</h2>
      <Certified :certified="certified" />
    </section>
    <section v-if="findings.length">
      <h2 class="mb-1.5">
        Findings of the last {{ last?.kind === 'prove' ? 'proof' : (last?.kind ?? 'run') }},
        <Moment :at="last?.ended ?? m.checked" />
      </h2>
      <div class="panel max-h-80 overflow-auto"><Findings :findings="findings" /></div>
    </section>
    <section>
      <h2 class="mb-1.5">Wanted packages</h2>
      <div class="panel overflow-x-auto">
        <table class="grid-table">
          <thead>
            <tr>
              <th>Source</th>
              <th>Wanted</th>
              <th>With<Term of="with" /></th>
              <th class="num">Versions</th>
              <th>Streams</th>
              <th>Except</th>
            </tr>
          </thead>
          <tbody>
            <tr v-if="m.want">
              <td class="font-medium">all sources</td>
              <td>{{ wanted(m.want) }}</td>
              <td>{{ m.want.with || '–' }}</td>
              <td class="num">{{ m.want.versions || '–' }}</td>
              <td>–</td>
              <td class="mono">{{ m.want.except?.join(', ') || '–' }}</td>
            </tr>
            <tr v-for="f in m.from" :key="f.source">
              <td>
                <RouterLink :to="'/sources/' + f.source" class="font-medium">{{ f.source }}</RouterLink>
              </td>
              <td>{{ wanted(f.want) || 'what the mirror wants, and dependencies' }}</td>
              <td>{{ f.want.with || '–' }}</td>
              <td class="num">{{ f.want.versions || '–' }}</td>
              <td class="mono">{{ f.want.streams?.join(', ') || '–' }}</td>
              <td class="mono">{{ f.want.except?.join(', ') || '–' }}</td>
            </tr>
          </tbody>
        </table>
      </div>
    </section>
    <section v-if="m.together?.length || m.baseline">
      <dl class="panel grid grid-cols-[160px_1fr] gap-y-1 px-3 py-2">
        <template v-if="m.together?.length">
          <dt class="text-slate">Installable side by side</dt>
          <dd>{{ m.together.map((s) => s.join(', ')).join(' · ') }}</dd>
        </template>
        <template v-if="m.baseline">
          <dt class="text-slate">Baseline</dt>
          <dd>
            {{
              [
                m.baseline.list ? 'list ' + m.baseline.list : '',
                m.baseline.sources?.length ? 'sources ' + m.baseline.sources.join(', ') : '',
              ]
                .filter(Boolean)
                .join(' and ')
            }}
          </dd>
        </template>
      </dl>
    </section>
    <section>
      <div class="mb-1.5 flex items-center gap-3"><h2>Editions</h2></div>
      <div v-if="m.editions.length" class="panel overflow-x-auto">
        <div class="flex h-16 items-end gap-3 overflow-x-auto border-b border-line px-3 pt-2">
          <RouterLink
            v-for="e in [...m.editions].reverse()"
            :key="e.number"
            :to="'/editions/' + e.name"
            class="flex flex-col items-center !text-slate"
            :title="e.name + ', ' + size(e.bytes)"
            ><span
              class="w-7 rounded-t-sm"
              :class="e.lanes.length ? 'bg-tide' : 'bg-line'"
              :style="{ height: 6 + (34 * e.bytes) / biggest + 'px' }"
            />{{ e.number }}</RouterLink
          >
        </div>
        <table class="grid-table">
          <thead>
            <tr>
              <th>Edition</th>
              <th>Built</th>
              <th class="num">Packages</th>
              <th class="num">Files</th>
              <th class="num">Size</th>
              <th>Lanes</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="e in m.editions" :key="e.number">
              <td>
                <RouterLink :to="'/editions/' + e.name" class="mono">{{ e.name }}</RouterLink>
              </td>
              <td><Moment :at="e.created" /></td>
              <td class="num">{{ e.packages.toLocaleString('en') }}</td>
              <td class="num">{{ e.files.toLocaleString('en') }}</td>
              <td class="num">{{ size(e.bytes) }}</td>
              <td>{{ e.lanes.join(', ') || '–' }}</td>
            </tr>
          </tbody>
        </table>
      </div>
      <p v-else class="panel px-3 py-3 text-slate">
        No edition yet. Estimate shows what a build would contain; Build makes the first edition.
      </p>
    </section>
  </div>
  <Move v-if="moving" :lane="moving.lane" :to="moving.to" @close="moving = null" />
</template>
