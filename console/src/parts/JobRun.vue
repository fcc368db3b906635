<script setup lang="ts">
// A running job with its progress, bytes by upstream, and a way to stop it.
import { computed, onMounted, onUnmounted, ref } from 'vue'
import { post, type Job, type Progress } from '../api'
import { follow } from '../live'
import Act from './Act.vue'
import { size, span } from '../format'
import Mark from './Mark.vue'
import Trouble from './Trouble.vue'
const props = defineProps<{ job: Job }>()
const emit = defineEmits<{ end: [job: Job] }>()
const at = ref<Progress>(props.job.progress)
const gone = new AbortController()
const lost = ref(false)
const error = ref<unknown>(null)
const words: Record<string, string> = {
  roots: 'Downloading release metadata',
  probe: 'Measuring upstreams',
  indexes: 'Downloading indexes',
  select: 'Choosing packages and proving',
  files: 'Reading the file lists of packages',
  packages: 'Downloading packages',
  'source packages': 'Downloading source packages',
  write: 'Writing indexes',
  seal: 'Sealing',
  verify: 'Verifying files',
  wait: 'Waiting',
  sweep: 'Sweeping the pool',
  read: 'Reading the packages of sources',
  examine: 'Comparing the release metadata',
  refill: 'Restoring missing files',
}
const share = computed(() => {
  const p = at.value
  if (p.bytes_total > 0) return Math.min(100, (100 * p.bytes) / p.bytes_total)
  return p.files_total > 0 ? Math.min(100, (100 * p.files) / p.files_total) : 0
})
onMounted(async () => {
  try {
    emit('end', await follow(props.job.id, seen, gone.signal))
  } catch (e) {
    if (!gone.signal.aborted) error.value = e
  }
})
onUnmounted(() => gone.abort())
function seen(p: Progress | null) {
  lost.value = p === null
  if (p) at.value = p
}
</script>
<template>
  <Trouble v-if="error" :error="error" />
  <section v-else-if="lost" class="panel p-3" aria-live="polite">
    <Mark kind="warning" word="the service does not answer" />
    <span class="ml-3 text-slate"
      >How far the {{ job.kind }} is, and whether it goes on, is not known. It is asked again until it
      answers.</span
    >
  </section>
  <section v-else class="panel p-3" aria-live="polite">
    <div class="flex items-center gap-3">
      <Mark kind="busy" :word="words[at.step] ?? (at.step || 'Beginning')" /><span
        v-if="at.text"
        class="text-slate"
        >{{ at.text }}</span
      >
      <span class="ml-auto text-slate"
        ><template v-if="at.bytes_total"
          >{{ at.files }}/{{ at.files_total }} files · {{ size(at.bytes) }} of {{ size(at.bytes_total)
          }}<template v-if="at.rate"> · {{ size(at.rate) }}/s</template
          ><template v-if="at.remaining_s > 0"> · {{ span(at.remaining_s) }} left</template></template
        ><template v-else-if="at.files_total">{{ at.files }} of {{ at.files_total }}</template></span
      >
      <Act does="stopJob" class="btn-stop" @click="post(`/jobs/${job.id}/stop`)">Stop</Act>
    </div>
    <div
      class="mt-2 h-1.5 overflow-hidden rounded bg-raised"
      role="progressbar"
      :aria-valuenow="Math.round(share)"
      aria-valuemin="0"
      aria-valuemax="100"
    >
      <div class="h-full bg-tide transition-[width]" :style="{ width: share + '%' }" />
    </div>
    <div v-if="Object.keys(at.upstreams ?? {}).length" class="mt-2 flex flex-wrap gap-x-6 text-slate">
      <span v-for="(n, u) in at.upstreams" :key="u"
        ><code>{{ u }}</code> {{ size(n as number) }}</span
      >
    </div>
  </section>
</template>
