<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { getTagged, post, type Job, type Source } from '../../api'
import JobRun from '../../parts/JobRun.vue'
import Question from '../../parts/Question.vue'
import Tabs from '../../parts/Tabs.vue'
import Trouble from '../../parts/Trouble.vue'
import Definition from './Definition.vue'
import Revisions from './Revisions.vue'
import State from './State.vue'

const props = defineProps<{ name: string }>()
const client = useQueryClient()
const q = useQuery({
  queryKey: ['source', props.name],
  queryFn: () => getTagged<Source>('/sources/' + props.name),
})
const s = computed(() => q.data.value)
const job = ref<Job | null>(null)
const error = ref<unknown>(null)
const asking = ref(false)
const edited = ref(0) // how often the definition was changed elsewhere: what is typed begins anew

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
async function changed() {
  await client.invalidateQueries()
  edited.value++
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
  <template v-if="s">
    <div class="mb-4 flex items-center gap-3">
      <h1>{{ name }}</h1>
      <span class="text-slate"
        >{{ [s.standing, s.family, s.release].filter(Boolean).join(' · ') }} · priority {{ s.priority
        }}<template v-if="s.disabled"> · disabled</template></span
      >
      <div class="ml-auto flex gap-2">
        <button v-if="!s.managed" class="btn" :disabled="!!job" @click="start('probe')">
          Probe upstreams
        </button>
        <button class="btn" @click="asking = true">{{ s.disabled ? 'Enable' : 'Disable' }}</button>
        <button class="btn btn-go" :disabled="!!job" @click="start('refresh')">Refresh</button>
      </div>
    </div>
    <JobRun v-if="job" :job="job" class="mb-4" @end="ended" />
    <Trouble :error="error" class="mb-4" />
    <Tabs :names="['State', 'Definition', 'Revisions']">
      <template #0><State :source="s" /></template>
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
      <p v-if="s.disabled">It is asked again from now on.</p>
      <p v-else-if="s.mirrors.length">
        The mirrors {{ s.mirrors.join(', ') }} take from this source: a disabled source cannot stand in a
        mirror, so this will be refused until it is taken out of them.
      </p>
      <p v-else>
        No mirror takes from it. It is no longer asked, and does not count when a missing dependency is looked
        for.
      </p>
    </Question>
  </template>
</template>
