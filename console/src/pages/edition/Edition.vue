<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { get, post, type Edition, type EditionDetail, type Job, type Page } from '../../api'
import { absolute, count, size } from '../../format'
import Findings from '../../parts/Findings.vue'
import JobRun from '../../parts/JobRun.vue'
import Loading from '../../parts/Loading.vue'
import Mark from '../../parts/Mark.vue'
import Moment from '../../parts/Moment.vue'
import Retire from '../../parts/Retire.vue'
import Tabs from '../../parts/Tabs.vue'
import Term from '../../parts/Term.vue'
import Trouble from '../../parts/Trouble.vue'
import Advisories from './Advisories.vue'
import Difference from './Difference.vue'
import Origin from './Origin.vue'
import Packages from './Packages.vue'
import Act from '../../parts/Act.vue'

const props = defineProps<{ mirror: string; number: string }>()
const route = useRoute()
const router = useRouter()
const file = `${props.mirror}-${props.number}` // name of a downloaded list
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
const older = computed(() =>
  (others.data.value?.items ?? []).filter((e) => String(e.number) !== props.number),
)
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
  <Loading v-if="q.isPending.value" />
  <div v-if="e" class="space-y-4">
    <div class="flex items-center gap-3">
      <h1 class="mono !text-[17px]">{{ e.name }}</h1>
      <Mark v-if="e.sealed" kind="good" word="seal valid" :title="'verified ' + absolute(e.checked)" /><Mark
        v-else
        kind="error"
        word="seal invalid"
      /><Term of="seal" /><span class="text-slate"
        >built <Moment :at="e.created" /> · {{ e.copy }} · {{ count(e.packages, 'package') }} ·
        {{ size(e.bytes)
        }}<template v-if="e.lanes.length"> · shown by {{ e.lanes.join(', ') }}</template></span
      >
      <div class="ml-auto flex gap-2">
        <Act does="retire" class="btn-stop" @click="retiring = true">Retire</Act
        ><Act does="verify" class="btn-go" :disabled="!!job" @click="verify">Verify now</Act>
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
          :word="`OK: the seal is valid and all ${(last.result as any).files} files match it`"
        /><Mark v-else kind="error" :word="last.problem" />
      </p>
      <Findings v-if="last.findings.length" :findings="last.findings" class="border-t border-line" />
    </section>
    <Tabs :names="tabs">
      <template #0><Packages v-model="text" :base="base" :name="file" /></template>
      <template #1><Difference v-model="against" :base="base" :name="file" :older="older" /></template>
      <template #2><Origin :edition="e" /></template>
      <template #3><Advisories v-model="text" :base="base" :name="file" /></template>
    </Tabs>
    <Retire v-if="retiring" :of="e" @close="retiring = false" @done="router.push('/mirrors/' + props.mirror)"
      >{{ count(e.packages, 'package') }} ({{ size(e.bytes) }}) go with the next sweep of the pool, as far as
      nothing else uses them.</Retire
    >
  </div>
</template>
