<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { get, getTagged, post, type Dependents, type Job, type Source } from '../../api'
import JobRun from '../../parts/JobRun.vue'
import Loading from '../../parts/Loading.vue'
import Question from '../../parts/Question.vue'
import Tabs from '../../parts/Tabs.vue'
import Trouble from '../../parts/Trouble.vue'
import Definition from './Definition.vue'
import Revisions from './Revisions.vue'
import State from './State.vue'
import Act from '../../parts/Act.vue'

const props = defineProps<{ name: string }>()
const client = useQueryClient()
const q = useQuery({
  queryKey: ['source', props.name],
  queryFn: () => getTagged<Source>('/sources/' + props.name),
})
const s = computed(() => q.data.value)
const job = ref<Job | null>(null)
const starting = ref(false) // a job was asked for, and there is no answer yet
const busy = computed(() => starting.value || !!job.value)
const error = ref<unknown>(null)
const asking = ref(false)
const edited = ref(0) // how often the definition was changed elsewhere: what is typed begins anew

async function start(verb: string) {
  error.value = null
  starting.value = true
  try {
    job.value = await post<Job>(`/sources/${props.name}/${verb}`)
  } catch (e) {
    error.value = e
  }
  starting.value = false
}
function ended(j: Job) {
  job.value = null
  if (j.state === 'failed' && !j.findings.length) error.value = new Error(j.problem)
  client.invalidateQueries()
}
async function changed() {
  await client.invalidateQueries()
  edited.value++
}
const stands = ref<Dependents | null>(null)
async function ask() {
  error.value = null
  try {
    stands.value = await get<Dependents>(`/dependents/source/${props.name}`)
    asking.value = true
  } catch (e) {
    error.value = e
  }
}
async function toggle() {
  asking.value = false
  try {
    await post(`/sources/${props.name}/${s.value!.disabled ? 'enable' : 'disable'}`)
    await changed()
  } catch (e) {
    error.value = e
  }
}
</script>
<template>
  <Trouble :error="q.error.value" />
  <Loading v-if="q.isPending.value" />
  <template v-if="s">
    <div class="mb-4 flex items-center gap-3">
      <h1>{{ name }}</h1>
      <span class="text-slate"
        >{{ [s.standing, s.family, s.release].filter(Boolean).join(' · ') }} · priority {{ s.priority
        }}<template v-if="s.disabled"> · disabled</template></span
      >
      <div class="ml-auto flex gap-2">
        <Act v-if="!s.managed" does="probe" :disabled="busy" @click="start('probe')"> Probe upstreams </Act>
        <Act does="disable" @click="ask">{{ s.disabled ? 'Enable' : 'Disable' }}</Act>
        <Act does="refresh" class="btn-go" :disabled="busy" @click="start('refresh')">Refresh</Act>
      </div>
    </div>
    <JobRun v-if="job" :job="job" class="mb-4" @end="ended" />
    <Trouble :error="error" class="mb-4" />
    <Tabs :names="['State', 'Definition', 'Revisions']">
      <template #0><State :source="s" @job="job = $event" /></template>
      <template #1><Definition :key="edited" :source="s" @recorded="changed" /></template>
      <template #2><Revisions :name="name" @restored="changed" /></template>
    </Tabs>
    <Question
      :open="asking"
      :title="(s.disabled ? 'Enable ' : 'Disable ') + name"
      :verb="s.disabled ? 'Enable' : 'Disable'"
      @close="asking = false"
      @yes="toggle"
    >
      <dl v-if="stands && !s.disabled" class="facts mb-3">
        <template
          v-for="[what, names] in [
            ['Mirrors that use it', stands.mirrors],
            ['Lanes of these', stands.lanes],
            ['Groups that follow them', stands.groups],
            ['Editions that keep it', stands.editions],
            ...(stands.unread.length ? [['Unreadable, so unknown', stands.unread]] : []),
          ] as [string, string[]][]"
          :key="what"
        >
          <dt>{{ what }}</dt>
          <dd>{{ names.join(', ') || 'none' }}</dd>
        </template>
      </dl>
      <p v-if="s.disabled">Stockade contacts it again from now on.</p>
      <p v-else-if="s.mirrors.length">
        A mirror cannot use a disabled source. Remove it from these mirrors first.
      </p>
      <p v-else>
        No mirror uses it. Stockade no longer contacts it, and ignores it when a missing dependency is looked
        for.
      </p>
    </Question>
  </template>
</template>
