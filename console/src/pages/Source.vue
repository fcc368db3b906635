<script setup lang="ts">
import { Tab, TabGroup, TabList, TabPanel, TabPanels } from '@headlessui/vue'
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import {
  get,
  getTagged,
  post,
  postOver,
  type Finding,
  type Job,
  type Judgement,
  type Page,
  type Revision,
  type Source,
} from '../api'
import { size } from '../format'
import Count from '../parts/Count.vue'
import Finger from '../parts/Finger.vue'
import Findings from '../parts/Findings.vue'
import House from '../parts/House.vue'
import JobRun from '../parts/JobRun.vue'
import Mark from '../parts/Mark.vue'
import Modal from '../parts/Modal.vue'
import Moment from '../parts/Moment.vue'
import Restore from '../parts/Restore.vue'
import Trouble from '../parts/Trouble.vue'
const props = defineProps<{ name: string }>()
const client = useQueryClient()
const q = useQuery({
  queryKey: ['source', props.name],
  queryFn: () => getTagged<Source>('/sources/' + props.name),
})
const revisions = useQuery({ queryKey: ['revisions'], queryFn: () => get<Page<Revision>>('/revisions') })
const job = ref<Job | null>(null)
const error = ref<unknown>(null)
const s = computed(() => q.data.value)
async function start(verb: string) {
  error.value = null
  try {
    job.value = await post<Job>(`/sources/${props.name}/${verb}`)
  } catch (e) {
    error.value = e
  }
}
function ended(j: Job) {
  job.value = null
  if (j.state === 'failed' && !j.findings.length) error.value = new Error(j.problem)
  client.invalidateQueries()
}

// The definition as text, checked by the service as it is typed.
const text = ref('')
const live = ref<Judgement | null>(null)
const saved = ref('')
const busy = ref(false)
const seen = ref('') // the ETag of what is being edited
watch(
  s,
  (v) => {
    if (v?.text && !saved.value) {
      text.value = saved.value = v.text
      seen.value = v.etag
    }
  },
  { immediate: true },
)
let timer = 0
watch(text, () => {
  clearTimeout(timer)
  timer = window.setTimeout(async () => {
    if (!text.value) return
    try {
      live.value = await post<Judgement>('/definitions/compare', {
        documents: [{ name: props.name + '.yaml', text: text.value }],
      })
    } catch (e) {
      error.value = e
    }
  }, 300)
})
const about = computed<Finding[]>(() =>
  (live.value?.findings ?? []).filter(
    (f) => f.severity !== 'note' && (f.place?.file || (f.object ?? '').endsWith(' ' + props.name)),
  ),
)
async function record() {
  busy.value = true
  error.value = null
  try {
    await postOver<Judgement>(
      '/definitions/record',
      { documents: [{ name: props.name + '.yaml', text: text.value }], summary: 'edit source ' + props.name },
      seen.value,
    )
    saved.value = ''
    await client.invalidateQueries()
  } catch (e) {
    error.value = e
  } finally {
    busy.value = false
  }
}
const asking = ref(false)
async function toggle() {
  asking.value = false
  try {
    await post(`/sources/${props.name}/${s.value!.disabled ? 'enable' : 'disable'}`)
    saved.value = ''
    client.invalidateQueries()
  } catch (e) {
    error.value = e
  }
}
const mine = computed(() =>
  (revisions.data.value?.items ?? []).filter((r) =>
    r.changes?.some((c) => c.kind === 'source' && c.name === props.name),
  ),
)
const managed = computed(() => s.value?.standing === 'house' && !s.value.upstreams?.length)
// Servers as they were probed, which may have come from a list; else as described.
const servers = computed(() => {
  const probes = s.value?.probes ?? []
  const described = (s.value?.upstreams ?? []).map((u) => ({
    url: u.url || u.mirror_list || u.metalink || '',
    region: u.region,
    list: !u.url,
    probe: probes.find((p) => p.upstream.url === u.url),
  }))
  const listed = probes
    .filter((p) => !described.some((d) => d.url === p.upstream.url))
    .map((p) => ({
      url: p.upstream.url,
      region: p.upstream.region,
      list: false,
      probe: p as typeof p | undefined,
    }))
  return [...described, ...listed]
})
const slowest = computed(() => Math.max(1, ...(s.value?.probes ?? []).map((p) => p.first_byte_ns)))
const restoring = ref(0)
function restored() {
  restoring.value = 0
  saved.value = ''
  client.invalidateQueries()
}
</script>
<template>
  <Trouble :error="q.error.value" />
  <template v-if="s">
    <div class="mb-4 flex items-center gap-3">
      <h1>{{ name }}</h1>
      <span class="text-slate"
        >{{ [s.standing, s.family, s.release].filter(Boolean).join(' · ') }} · priority {{ s.priority
        }}<template v-if="s.disabled"> · disabled</template></span
      >
      <div class="ml-auto flex gap-2">
        <button v-if="!managed" class="btn" :disabled="!!job" @click="start('probe')">Probe upstreams</button
        ><button class="btn" @click="asking = true">{{ s.disabled ? 'Enable' : 'Disable' }}</button
        ><button class="btn btn-go" :disabled="!!job" @click="start('refresh')">Refresh</button>
      </div>
    </div>
    <JobRun v-if="job" :job="job" class="mb-4" @end="ended" />
    <Trouble :error="error" class="mb-4" />
    <TabGroup>
      <TabList class="mb-3 flex gap-1 border-b border-line"
        ><Tab v-for="t in ['State', 'Definition', 'Revisions']" :key="t" v-slot="{ selected }" as="template"
          ><button
            class="-mb-px border-b-2 px-3 py-1.5"
            :class="selected ? 'border-tide font-medium text-tide' : 'border-transparent text-slate'"
          >
            {{ t }}
          </button></Tab
        ></TabList
      >
      <TabPanels>
        <TabPanel class="space-y-5">
          <House v-if="managed" :source="name" :family="s.family" />
          <div class="grid grid-cols-2 gap-5">
            <section class="panel p-3">
              <h2 class="mb-2">Accepted root</h2>
              <dl v-if="s.accepted" class="facts">
                <dt>Made</dt>
                <dd><Moment :at="s.accepted.date" /></dd>
                <dt>Says it is</dt>
                <dd>
                  {{ [s.accepted.origin, s.accepted.suite, s.accepted.codename].filter(Boolean).join(' · ') }}
                </dd>
                <dt>Signed by</dt>
                <dd>
                  <RouterLink :to="'/keys/' + s.accepted.signer.fingerprint">{{
                    s.accepted.signer.user_id
                  }}</RouterLink><br /><Finger :of="s.accepted.signer.fingerprint" brief />
                </dd>
                <dt>Taken from</dt>
                <dd class="mono">{{ managed ? 'what was added by hand' : s.accepted.upstream }}</dd>
                <dt>Offers</dt>
                <dd>
                  {{ s.accepted.offers.components?.join(', ') }} for
                  {{ s.accepted.offers.architectures?.join(', ') }}
                </dd>
                <dt>Last asked</dt>
                <dd><Moment :at="s.checked" /></dd>
              </dl>
              <p v-else class="text-slate">
                {{
                  managed
                    ? 'Its indexes are written and signed when a mirror that takes from it is built, or at a refresh.'
                    : 'Nothing was accepted yet. Refresh asks the upstreams and judges what they send.'
                }}
              </p>
            </section>
            <section class="panel p-3">
              <h2 class="mb-2">Described</h2>
              <dl class="facts">
                <dt>Components</dt>
                <dd>{{ s.components?.join(', ') || '–' }}</dd>
                <dt>Architectures</dt>
                <dd>{{ s.architectures?.join(', ') }}</dd>
                <dt>Signed by</dt>
                <dd>{{ managed ? 'the site key' : s.signed_by?.join(', ') || 'nobody' }}</dd>
                <dt>Oldest allowed</dt>
                <dd>{{ s.max_age || 'any age' }}</dd>
                <dt>Proxy</dt>
                <dd>{{ s.proxy || 'none' }}</dd>
                <dt>Mirrors</dt>
                <dd>
                  <template v-for="(m, i) in s.mirrors" :key="m"
                    ><template v-if="i">, </template
                    ><RouterLink :to="'/mirrors/' + m">{{ m }}</RouterLink></template
                  ><template v-if="!s.mirrors.length">none</template>
                </dd>
              </dl>
            </section>
          </div>
          <section v-if="!managed">
            <h2 class="mb-1.5">Upstreams, in the order in which they are asked</h2>
            <div class="panel overflow-hidden">
              <table class="grid-table">
                <thead>
                  <tr>
                    <th>Upstream</th>
                    <th>Region</th>
                    <th>First byte</th>
                    <th class="num">Rate</th>
                    <th>Root</th>
                    <th>Probed</th>
                  </tr>
                </thead>
                <tbody>
                  <tr v-for="u in servers" :key="u.url">
                    <td class="mono">{{ u.url }}</td>
                    <td>{{ u.region || '–' }}</td>
                    <template v-if="u.probe"
                      ><td>
                        <div class="flex items-center gap-2">
                          <span
                            class="block h-2 rounded-sm bg-tide"
                            :style="{ width: Math.max(2, (90 * u.probe.first_byte_ns) / slowest) + 'px' }"
                          /><span>{{ (u.probe.first_byte_ns / 1e6).toFixed(1) }} ms</span>
                        </div>
                      </td>
                      <td class="num">{{ size(u.probe.bytes_per_second) }}/s</td>
                      <td>
                        <Mark v-if="u.probe.error" kind="error" word="down" /><Mark
                          v-else-if="u.probe.finding?.code"
                          kind="error"
                          :word="u.probe.finding!.code"
                        /><span v-else class="inline-flex gap-2"
                          ><Mark kind="good" word="good," /> <Moment :at="u.probe.root_date"
                        /></span>
                      </td>
                      <td><Moment :at="u.probe.at" /></td
                    ></template>
                    <td v-else colspan="4" class="text-slate">
                      {{ u.list ? 'a list of servers, read at each refresh' : 'not probed yet' }}
                    </td>
                  </tr>
                </tbody>
              </table>
            </div>
          </section>
          <section>
            <div class="mb-1.5 flex gap-3">
              <h2>Findings</h2>
              <Count :findings="s.findings" />
            </div>
            <div v-if="s.findings.length" class="panel"><Findings :findings="s.findings" /></div>
          </section>
        </TabPanel>
        <TabPanel>
          <div class="grid grid-cols-[minmax(0,1fr)_minmax(0,1fr)] gap-5">
            <div>
              <textarea
                v-model="text"
                class="field mono !h-[420px] resize-y leading-5"
                spellcheck="false"
                aria-label="Definition"
              />
              <div class="mt-2 flex items-center gap-2">
                <button
                  class="btn btn-go"
                  :disabled="busy || !live?.changes.length || about.some((f) => f.severity === 'error')"
                  @click="record"
                >
                  Record</button
                ><button class="btn" :disabled="text === saved" @click="text = saved">
                  Take back what was typed</button
                ><span class="text-slate">{{
                  live?.changes.length
                    ? 'would change: ' + live.changes.map((c) => c.kind + ' ' + c.name).join(', ')
                    : 'as recorded'
                }}</span>
              </div>
            </div>
            <div class="space-y-4">
              <section>
                <h2 class="mb-1.5">Findings in this text</h2>
                <div class="panel">
                  <Findings v-if="about.length" :findings="about" />
                  <p v-else class="px-3 py-2"><Mark kind="good" word="nothing to find fault with" /></p>
                </div>
              </section>
              <section v-if="live?.changes.length && !about.some((f) => f.severity === 'error')">
                <h2 class="mb-1.5">What recording changes</h2>
                <div class="panel overflow-hidden">
                  <table class="grid-table">
                    <thead>
                      <tr>
                        <th>Field</th>
                        <th>Now</th>
                        <th>Then</th>
                      </tr>
                    </thead>
                    <tbody>
                      <template v-for="c in live.changes" :key="c.name"
                        ><tr v-for="f in c.fields" :key="f.path">
                          <td>{{ f.path }}</td>
                          <td class="mono">{{ f.old || '–' }}</td>
                          <td class="mono">{{ f.new || '–' }}</td>
                        </tr></template
                      >
                    </tbody>
                  </table>
                </div>
              </section>
            </div>
          </div>
        </TabPanel>
        <TabPanel
          ><div class="panel overflow-hidden">
            <table v-if="mine.length" class="grid-table">
              <thead>
                <tr>
                  <th class="num">Revision</th>
                  <th>When</th>
                  <th>By</th>
                  <th>Summary</th>
                  <th>Changed</th>
                  <th></th>
                </tr>
              </thead>
              <tbody>
                <tr v-for="r in mine" :key="r.id">
                  <td class="num">{{ r.id }}</td>
                  <td><Moment :at="r.at" /></td>
                  <td>{{ r.by }}</td>
                  <td>{{ r.summary }}</td>
                  <td class="text-slate">
                    {{
                      r.changes
                        .filter((c) => c.name === name)
                        .map((c) => (c.action === 'add' ? 'added' : c.fields.map((f) => f.path).join(', ')))
                        .join('; ')
                    }}
                  </td>
                  <td class="num"><button class="btn !h-6" @click="restoring = r.id">Restore…</button></td>
                </tr>
              </tbody>
            </table>
            <p v-else class="px-3 py-2 text-slate">No revision names this source.</p>
          </div></TabPanel
        >
      </TabPanels>
    </TabGroup>
    <Restore
      v-if="restoring"
      :revision="restoring"
      :object="'source/' + name"
      @close="restoring = 0"
      @done="restored"
    />
    <Modal :open="asking" :title="(s.disabled ? 'Enable ' : 'Disable ') + name" @close="asking = false"
      ><p v-if="!s.disabled">
        {{
          s.mirrors.length
            ? `The mirrors ${s.mirrors.join(', ')} take from this source: a disabled source ` +
              'cannot stand in a mirror, so this will be refused until it is taken out of them.'
            : 'No mirror takes from it. It is no longer asked, and does not count when a missing dependency is looked for.'
        }}
      </p>
      <p v-else>It is asked again from now on.</p>
      <div class="mt-4 flex justify-end gap-2">
        <button class="btn" @click="asking = false">Leave it</button
        ><button class="btn btn-go" @click="toggle">{{ s.disabled ? 'Enable' : 'Disable' }}</button>
      </div></Modal
    >
  </template>
</template>
