<script setup lang="ts">
// How the upstreams shall stand after a probe: all in its order, or so many of the best, of a
// region or a protocol. What that changes is asked of the service, and shown before it is done.
import { computed, ref, watch } from 'vue'
import { post, type Judgement, type Source } from '../../api'
import Modal from '../../parts/Modal.vue'
import Moment from '../../parts/Moment.vue'
import Trouble from '../../parts/Trouble.vue'
import Preview from '../describe/Preview.vue'

const props = defineProps<{ source: Source }>()
const emit = defineEmits<{ close: []; done: [] }>()
const probes = computed(() => [...(props.source.probes ?? [])].sort((a, b) => a.rank - b.rank))
const best = ref(0)
const region = ref('')
const protocol = ref('')
const unique = (of: (p: (typeof probes.value)[number]) => string) => [
  ...new Set(probes.value.map(of).filter(Boolean)),
]
const regions = computed(() => unique((p) => p.upstream.region ?? ''))
const protocols = computed(() => unique((p) => p.upstream.url.split('://')[0]))
const asked = computed(() => ({
  best: best.value,
  ...(best.value ? { region: region.value, protocol: protocol.value } : {}),
}))
const would = ref<Judgement | null>(null)
const error = ref<unknown>(null)
let turn = 0
watch(
  asked,
  async () => {
    const mine = ++turn
    would.value = null
    error.value = null
    try {
      const j = await post<Judgement>(`/sources/${props.source.name}/order`, { ...asked.value, look: true })
      if (mine === turn) would.value = j
    } catch (e) {
      if (mine === turn) error.value = e
    }
  },
  { immediate: true },
)
async function go() {
  error.value = null
  try {
    await post(`/sources/${props.source.name}/order`, asked.value)
    emit('done')
  } catch (e) {
    error.value = e
  }
}
const whole = (s: { fresh: number; first_byte: number; rate: number }) => s.fresh + s.first_byte + s.rate
</script>
<template>
  <Modal open wide :title="'Sort the upstreams of ' + source.name" @close="emit('close')">
    <div class="mb-3 flex flex-wrap items-center gap-3">
      <label class="flex items-center gap-2"
        >Keep
        <select v-model.number="best" class="field !w-auto" aria-label="How many to keep">
          <option :value="0">all of them</option>
          <option v-for="n in probes.length" :key="n" :value="n">the best {{ n }}</option>
        </select></label
      >
      <label v-if="best && regions.length" class="flex items-center gap-2"
        >of
        <select v-model="region" class="field !w-auto" aria-label="Region">
          <option value="">any region</option>
          <option v-for="r in regions" :key="r" :value="r">{{ r }}</option>
        </select></label
      >
      <label v-if="best && protocols.length > 1" class="flex items-center gap-2"
        >by
        <select v-model="protocol" class="field !w-auto" aria-label="Protocol">
          <option value="">any protocol</option>
          <option v-for="p in protocols" :key="p" :value="p">{{ p }}</option>
        </select></label
      >
    </div>
    <ol class="mono mb-3 list-inside list-decimal">
      <li v-for="p in probes" :key="p.upstream.url">
        {{ p.upstream.url }}
        <span class="font-sans text-slate"
          >{{ p.score && whole(p.score) ? whole(p.score) + ' of 100' : 'no score'
          }}{{ p.upstream.region ? ', ' + p.upstream.region : ''
          }}{{ p.candidate ? ', candidate' : '' }}</span
        >
      </li>
    </ol>
    <Trouble :error="error" class="mb-3" />
    <Preview v-if="would" :of="would" />
    <p class="mt-3 text-slate">
      By the probe of <Moment :at="probes[0]?.at" />. Restoring the revision before undoes this.
    </p>
    <div class="mt-4 flex justify-end gap-2">
      <button class="btn" @click="emit('close')">Cancel</button>
      <button class="btn btn-go" :disabled="!would?.recordable" @click="go">Sort</button>
    </div>
  </Modal>
</template>
