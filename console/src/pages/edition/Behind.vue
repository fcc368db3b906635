<script setup lang="ts">
// What stands behind a package, as one line that can be followed from either end: from who
// vouched for the key down to the file, and from the file down to the seal.
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { bytes, get, type Chain, type Item, type Page } from '../../api'
import Finger from '../../parts/Finger.vue'
import Mark from '../../parts/Mark.vue'
import Modal from '../../parts/Modal.vue'
import Moment from '../../parts/Moment.vue'
import Trouble from '../../parts/Trouble.vue'

const props = defineProps<{ base: string; of: Item }>()
const emit = defineEmits<{ close: [] }>()
const asked = new URLSearchParams({
  package: props.of.name,
  version: props.of.version,
  arch: props.of.arch,
})
const q = useQuery({
  queryKey: ['chain', props.base, props.of.path],
  queryFn: () => get<Page<Chain>>(`${props.base}/chain?${asked}`),
})
const chain = computed(() => q.data.value?.items.find((c) => c.package.path === props.of.path))
const links = computed(() =>
  chain.value ? [...chain.value.upstream].reverse().concat(chain.value.site.slice(1)) : [],
)
const broken = computed(() => links.value.filter((l) => l.state === 'broken').length)
const unread = computed(() => links.value.filter((l) => l.state === 'sealed').length)
const unsigned = computed(() => links.value.some((l) => l.kind === 'acknowledged'))
const words = {
  compared: ['good', 'verified now'],
  sealed: ['note', 'as sealed'],
  broken: ['error', 'invalid'],
} as const
const names: Record<string, string> = {
  vouch: 'Vouch',
  acknowledged: 'Acknowledged',
  key: 'Key',
  signature: 'Signature',
  root: 'Root',
  index: 'Index',
  package: 'Package file',
  'handed-in': 'Added by hand',
  list: 'List of files',
  manifest: 'Manifest',
  seal: 'Seal',
}

const shown = ref('') // the path whose bytes are looked at
const text = ref('')
const error = ref<unknown>(null)
async function look(path: string) {
  error.value = null
  if (shown.value === path) {
    shown.value = ''
    return
  }
  try {
    const b = await bytes(`${props.base}/file/${path.split('/').map(encodeURIComponent).join('/')}`)
    const start = await b.slice(0, 64 << 10).text()
    text.value = /[\0-\x08\x0e-\x1f]/.test(start) ? `${b.size} bytes of binary data` : start
    shown.value = path
  } catch (e) {
    error.value = e
  }
}
</script>
<template>
  <Modal open wide :title="`Chain of trust of ${of.name} ${of.version} (${of.arch})`" @close="emit('close')">
    <Trouble :error="q.error.value ?? error" class="mb-3" />
    <p v-if="q.isLoading.value"><Mark kind="busy" word="verifying" /></p>
    <template v-if="chain">
      <p class="mb-3">
        <Mark v-if="broken" kind="error" :word="`${broken} of ${links.length} steps are invalid`" />
        <Mark v-else kind="good" :word="`${links.length - unread} of ${links.length} steps verified now`" />
        <span v-if="unread" class="ml-2 text-slate"
          >{{ unread === 1 ? '1 rests' : unread + ' rest' }} on the seal alone.</span
        >
        <span v-if="unsigned" class="ml-2">Upstream does not sign its metadata.</span>
        <Mark v-if="chain.since" kind="warning" :word="'Changed since: ' + chain.since" class="ml-2" />
      </p>
      <ol class="max-h-[62vh] overflow-auto pr-2">
        <li
          v-for="(l, i) in links"
          :key="l.kind"
          class="grid grid-cols-[130px_16px_minmax(0,1fr)] gap-x-3"
          :class="l.kind === 'package' ? 'rounded bg-tide-soft' : ''"
        >
          <div class="py-1.5 pl-2 text-right font-medium">{{ names[l.kind] ?? l.kind }}</div>
          <div class="relative flex justify-center">
            <span v-if="i > 0" class="absolute top-0 h-3 w-px bg-slate" />
            <span v-if="i < links.length - 1" class="absolute top-3 bottom-0 w-px bg-slate" />
            <span
              class="relative mt-2 size-2.5 rounded-full border-2 border-surface"
              :class="l.state === 'broken' ? 'bg-flare' : l.state === 'compared' ? 'bg-moss' : 'bg-slate'"
            />
          </div>
          <div class="py-1.5">
            <div class="flex items-baseline gap-3">
              <span class="min-w-0 break-words">{{ l.text }}</span>
              <Mark :kind="words[l.state][0]" :word="words[l.state][1]" class="ml-auto" />
            </div>
            <div class="flex flex-wrap items-baseline gap-x-3 text-slate">
              <span v-if="l.by">by {{ l.by }}</span>
              <Moment v-if="l.at" :at="l.at" />
              <Finger v-if="l.fingerprint && l.kind === 'key'" :of="l.fingerprint" />
              <span v-if="l.sha256" class="mono break-all">sha256 {{ l.sha256 }}</span>
              <button
                v-if="l.path && l.kind !== 'package'"
                class="mono text-tide underline"
                @click="look(l.path)"
              >
                {{ l.path }}
              </button>
              <span v-else-if="l.path" class="mono break-all">{{ l.path }}</span>
              <span v-if="l.why">{{ l.why }}</span>
            </div>
            <pre
              v-if="shown && shown === l.path"
              class="mono mt-1 max-h-56 overflow-auto border border-line p-2"
              >{{ text }}</pre>
          </div>
        </li>
      </ol>
    </template>
  </Modal>
</template>
