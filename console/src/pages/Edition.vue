<script setup lang="ts">
import { Tab, TabGroup, TabList, TabPanel, TabPanels } from '@headlessui/vue'
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import {
  call,
  get,
  post,
  type Advisory,
  type Edition,
  type EditionDetail,
  type Item,
  type Job,
  type PackageChange,
  type Page,
} from '../api'
import { count, size } from '../format'
import Finger from '../parts/Finger.vue'
import Findings from '../parts/Findings.vue'
import JobRun from '../parts/JobRun.vue'
import Mark from '../parts/Mark.vue'
import Modal from '../parts/Modal.vue'
import Moment from '../parts/Moment.vue'
import Proofs from '../parts/Proofs.vue'
import Take from '../parts/Take.vue'
import Trouble from '../parts/Trouble.vue'
const props = defineProps<{ mirror: string; number: string }>()
const route = useRoute()
const router = useRouter()
const client = useQueryClient()
const base = `/editions/${props.mirror}/${props.number}`
const q = useQuery({ queryKey: ['edition', base], queryFn: () => get<EditionDetail>(base) })
const others = useQuery({
  queryKey: ['editions', props.mirror],
  queryFn: () => get<Page<Edition>>('/editions?mirror=' + props.mirror),
})
const text = computed({
  get: () => String(route.query.q ?? ''),
  set: (v) => router.replace({ query: { ...route.query, q: v || undefined } }),
})
const against = computed({
  get: () => String(route.query.against ?? ''),
  set: (v) => router.replace({ query: { ...route.query, against: v || undefined } }),
})
const size_ = ref(200)
const items = useQuery({
  queryKey: ['items', base, text, size_],
  queryFn: () => get<Page<Item>>(`${base}/packages?limit=${size_.value}&q=${encodeURIComponent(text.value)}`),
  placeholderData: (old: Page<Item> | undefined) => old,
})
const older = computed(() =>
  (others.data.value?.items ?? []).filter((e) => String(e.number) !== props.number),
)
const diff = useQuery({
  queryKey: ['diff', base, against],
  queryFn: () => get<Page<PackageChange>>(`${base}/diff${against.value ? '?against=' + against.value : ''}`),
  enabled: computed(() => older.value.length > 0),
})
const job = ref<Job | null>(null)
const last = ref<Job | null>(null)
const error = ref<unknown>(null)
const retiring = ref(false)
async function verify() {
  error.value = null
  last.value = null
  try {
    job.value = await post<Job>(base + '/verify')
  } catch (e) {
    error.value = e
  }
}
async function retire() {
  retiring.value = false
  try {
    await call('DELETE', base)
    await client.invalidateQueries()
    router.push('/mirrors/' + props.mirror)
  } catch (e) {
    error.value = e
  }
}
const advisories = useQuery({
  queryKey: ['advisories', base, text],
  queryFn: () => get<Page<Advisory>>(`${base}/advisories?q=${encodeURIComponent(text.value)}`),
})
const tabs = computed(() => [
  'Packages',
  'Difference',
  'Proof and origin',
  ...(q.data.value?.seal.advisories ? ['Advisories'] : []),
])
const e = computed(() => q.data.value)
</script>
<template>
  <Trouble :error="q.error.value" />
  <div v-if="e" class="space-y-4">
    <div class="flex items-center gap-3">
      <h1 class="mono !text-[17px]">{{ e.name }}</h1>
      <Mark v-if="e.sealed" kind="good" word="the seal holds" /><Mark
        v-else
        kind="error"
        word="the seal does not hold"
      /><span class="text-slate"
        >made <Moment :at="e.created" /> · {{ e.copy }} · {{ count(e.packages, 'package') }} ·
        {{ size(e.bytes)
        }}<template v-if="e.lanes.length"> · shown by {{ e.lanes.join(', ') }}</template></span
      >
      <div class="ml-auto flex gap-2">
        <button class="btn btn-stop" @click="retiring = true">Retire</button
        ><button class="btn btn-go" :disabled="!!job" @click="verify">Verify now</button>
      </div>
    </div>
    <Trouble :error="error" />
    <div v-if="e.problem" class="panel border-flare p-3 text-flare">{{ e.problem }}</div>
    <JobRun
      v-if="job"
      :job="job"
      @end="
        (j) => {
          job = null
          last = j
        }
      "
    />
    <section v-if="last" class="panel" role="status">
      <p class="px-3 py-2">
        <Mark
          v-if="last.state === 'done'"
          kind="good"
          :word="`all ${(last.result as any).files} files are what was sealed`"
        /><Mark v-else kind="error" :word="last.problem" />
      </p>
      <Findings v-if="last.findings.length" :findings="last.findings" class="border-t border-line" />
    </section>
    <TabGroup
      :default-index="Math.max(0, Number(route.query.tab ?? 0))"
      @change="(i: number) => router.replace({ query: { ...route.query, tab: i || undefined } })"
    >
      <TabList class="flex gap-1 border-b border-line"
        ><Tab v-for="t in tabs" :key="t" v-slot="{ selected }" as="template"
          ><button
            class="-mb-px border-b-2 px-3 py-1.5"
            :class="selected ? 'border-tide font-medium text-tide' : 'border-transparent text-slate'"
          >
            {{ t }}
          </button></Tab
        ></TabList
      >
      <TabPanels class="mt-3">
        <TabPanel>
          <div class="mb-2 flex items-center gap-3">
            <input
              v-model.lazy="text"
              class="field !w-64"
              placeholder="Search in this edition, then Enter"
              aria-label="Search in this edition"
            /><span class="text-slate"
              >{{ items.data.value?.items.length ?? 0 }} shown{{
                items.data.value?.next ? ', there are more' : ''
              }}</span
            ><button v-if="items.data.value?.next" class="btn" @click="size_ = Math.min(1000, size_ + 400)">
              Show more</button
            ><Take class="ml-auto" :name="mirror + '-' + number" :rows="items.data.value?.items ?? []" />
          </div>
          <div class="panel max-h-[calc(100vh-250px)] overflow-auto">
            <table class="grid-table">
              <thead>
                <tr>
                  <th>Package</th>
                  <th>Version</th>
                  <th>Architecture</th>
                  <th>Source</th>
                  <th>Part</th>
                  <th class="num">Size</th>
                  <th>Why it is here</th>
                  <th>Summary</th>
                </tr>
              </thead>
              <tbody>
                <tr v-for="it in items.data.value?.items ?? []" :key="it.path">
                  <td class="font-medium">{{ it.name }}</td>
                  <td class="mono">{{ it.version }}</td>
                  <td>{{ it.arch }}</td>
                  <td>{{ it.source }}</td>
                  <td>{{ it.attributes?.stream ? 'stream ' + it.attributes?.stream : it.component }}</td>
                  <td class="num">{{ size(it.size) }}</td>
                  <td>{{ it.wanted ? 'wanted: ' + it.for : 'needed by ' + it.for }}</td>
                  <td class="max-w-72 truncate text-slate" :title="it.summary">{{ it.summary }}</td>
                </tr>
              </tbody>
            </table>
            <p v-if="!items.data.value?.items.length" class="px-3 py-2 text-slate">
              Nothing in this edition fits.
            </p>
          </div>
        </TabPanel>
        <TabPanel>
          <template v-if="older.length"
            ><div class="mb-2 flex items-center gap-3">
              <label for="against">Against</label
              ><select id="against" v-model="against" class="field !w-48">
                <option value="">the one before</option>
                <option v-for="o in older" :key="o.number" :value="String(o.number)">
                  {{ o.name }}
                </option></select
              ><span class="text-slate">{{ count(diff.data.value?.items.length ?? 0, 'difference') }}</span
              ><Take
                class="ml-auto"
                :name="`${mirror}-${number}-difference`"
                :rows="diff.data.value?.items ?? []"
              />
            </div>
            <Trouble :error="diff.error.value" />
            <div v-if="diff.data.value" class="panel overflow-auto">
              <table v-if="diff.data.value.items.length" class="grid-table">
                <thead>
                  <tr>
                    <th>Change</th>
                    <th>Package</th>
                    <th>Architecture</th>
                    <th>Source</th>
                    <th>Old version</th>
                    <th>New version</th>
                    <th class="num">Size</th>
                    <th>Advisories</th>
                  </tr>
                </thead>
                <tbody>
                  <tr v-for="(c, i) in diff.data.value.items" :key="i">
                    <td>
                      <Mark
                        :kind="c.action === 'added' ? 'good' : c.action === 'removed' ? 'warning' : 'note'"
                        :word="c.action"
                      />
                    </td>
                    <td class="font-medium">{{ c.name }}</td>
                    <td>{{ c.arch }}</td>
                    <td>{{ c.source }}</td>
                    <td class="mono">{{ c.old_version ?? '–' }}</td>
                    <td class="mono">{{ c.new_version ?? '–' }}</td>
                    <td class="num">
                      {{ (c.new_size ?? 0) >= (c.old_size ?? 0) ? '+' : '−'
                      }}{{ size(Math.abs((c.new_size ?? 0) - (c.old_size ?? 0))) }}
                    </td>
                    <td class="mono">{{ c.advisories?.join(', ') || '–' }}</td>
                  </tr>
                </tbody>
              </table>
              <p v-else class="px-3 py-2 text-slate">The packages are the same.</p>
            </div></template
          >
          <p v-else class="text-slate">This is the only edition of its mirror.</p>
        </TabPanel>
        <TabPanel class="space-y-4">
          <section v-if="e.seal.proofs?.length">
            <h2 class="mb-1.5">Proved when it was built</h2>
            <div class="panel overflow-hidden"><Proofs :proofs="e.seal.proofs" /></div>
          </section>
          <section v-for="s in e.seal.sources ?? []" :key="s.name" class="panel p-3">
            <h2 class="mb-2">{{ s.name }}</h2>
            <dl class="facts">
              <dt>Release</dt>
              <dd>
                {{ [s.family, s.release, (s.components ?? []).join(', ')].filter(Boolean).join(' · ') }} for
                {{ (s.architectures ?? []).join(', ') }}
              </dd>
              <dt>Root</dt>
              <dd>
                made <Moment :at="s.root_date" />, from <code>{{ s.upstream }}</code>
              </dd>
              <dt>Signed by</dt>
              <dd>{{ s.signer.user_id }} <Finger :of="s.signer.fingerprint" /></dd>
              <dt>Indexes</dt>
              <dd>
                <div v-for="x in s.indexes" :key="x.path" class="mono">
                  {{ x.path }} <span class="text-slate">{{ x.sha256.slice(0, 16) }}…</span>
                </div>
              </dd>
              <dt>Machines trust</dt>
              <dd>
                <div v-for="f in s.keys" :key="f">
                  <Finger :of="f" />
                  {{
                    f === e.seal.site_key
                      ? '(the site key: it signs the indexes)'
                      : s.tailored
                        ? '(upstream: it signed the packages)'
                        : '(upstream: copied byte for byte)'
                  }}
                </div>
              </dd>
            </dl>
          </section>
          <section v-if="e.sealed" class="panel p-3">
            <h2 class="mb-2">Take it out</h2>
            <p>
              As plain files, checked on the way: <code>stockade edition export {{ e.name }} DIR</code>
            </p>
          </section>
          <section v-if="e.seal.findings?.length">
            <h2 class="mb-1.5">Told when it was built</h2>
            <div class="panel"><Findings :findings="e.seal.findings" /></div>
          </section>
        </TabPanel>
        <TabPanel v-if="e.seal.advisories">
          <div class="mb-2 flex items-center gap-3">
            <input
              v-model.lazy="text"
              class="field !w-64"
              placeholder="Search, then Enter"
              aria-label="Search in the advisories"
            /><span class="text-slate"
              >{{ count(advisories.data.value?.items.length ?? 0, 'advisory', 'advisories') }} about packages
              of this edition</span
            ><Take
              class="ml-auto"
              :name="`${mirror}-${number}-advisories`"
              :rows="advisories.data.value?.items ?? []"
            />
          </div>
          <Trouble :error="advisories.error.value" />
          <div class="panel overflow-auto">
            <table v-if="advisories.data.value?.items.length" class="grid-table">
              <thead>
                <tr>
                  <th>Advisory</th>
                  <th>Kind</th>
                  <th>Source</th>
                  <th>Issued</th>
                  <th>About</th>
                  <th>Title</th>
                </tr>
              </thead>
              <tbody>
                <tr v-for="a in advisories.data.value.items" :key="a.source + a.id">
                  <td class="mono">{{ a.id }}</td>
                  <td>
                    <Mark
                      :kind="a.kind === 'security' ? 'warning' : 'note'"
                      :word="[a.kind, a.severity?.toLowerCase()].filter(Boolean).join(', ')"
                    />
                  </td>
                  <td>{{ a.source }}</td>
                  <td><Moment :at="a.issued" /></td>
                  <td class="mono">{{ a.packages.map((p) => p.name + ' ' + p.version).join(', ') }}</td>
                  <td class="max-w-96">{{ a.title }}</td>
                </tr>
              </tbody>
            </table>
            <p v-else class="px-3 py-2 text-slate">No advisory fits.</p>
          </div>
        </TabPanel>
      </TabPanels>
    </TabGroup>
    <Modal :open="retiring" :title="'Retire ' + e.name" @close="retiring = false"
      ><p>
        {{
          e.lanes.length
            ? `The lane ${e.lanes.join(', ')} shows it, so this will be refused until the lane is moved.`
            : `It is no longer served. ${count(e.packages, 'package')} (${size(e.bytes)}) ` +
              'go with the next sweep of the pool, as far as no other edition holds them.'
        }}
      </p>
      <div class="mt-4 flex justify-end gap-2">
        <button class="btn" @click="retiring = false">Leave it</button
        ><button class="btn btn-stop" @click="retire">Retire it</button>
      </div></Modal
    >
  </div>
</template>
