<script setup lang="ts">
// The dialog to vouch: the whole fingerprint typed, compared as it is typed. While it is open the
// page behind it, which has the fingerprint, is not to be seen.
import { useQueryClient } from '@tanstack/vue-query'
import { computed, onMounted, onUnmounted, ref } from 'vue'
import { post, type Key } from '../../api'
import Mark from '../../parts/Mark.vue'
import Modal from '../../parts/Modal.vue'
import Trouble from '../../parts/Trouble.vue'
import { comparing } from '../../tab'
import { fingerprintIn } from './picture'
const props = defineProps<{ of: Key; source: string }>()
const emit = defineEmits<{ close: []; done: [sources: string[]] }>()
const client = useQueryClient()
onMounted(() => (comparing.value = true))
onUnmounted(() => (comparing.value = false))
const first = computed(() => props.of.waiting.find((v) => v.source === props.source))
// One comparison may be for several sources that name the key: each is a decision of its own.
const others = computed(() =>
  props.of.needed_by.filter(
    (n) => n !== props.source && ![...props.of.vouched, ...props.of.waiting].some((v) => v.source === n),
  ),
)
const also = ref<string[]>([])
const typed = ref('')
const evidence = ref('')
const error = ref<unknown>(null)
const clean = computed(() => typed.value.toUpperCase().replace(/[\s:]/g, ''))
const groups = computed(() =>
  Array.from({ length: Math.ceil(props.of.fingerprint.length / 4) }, (_, i) => {
    const have = clean.value.slice(i * 4, i * 4 + 4)
    return {
      have,
      state: !have
        ? 'open'
        : have === props.of.fingerprint.slice(i * 4, i * 4 + 4)
          ? 'same'
          : props.of.fingerprint.slice(i * 4).startsWith(have)
            ? 'open'
            : 'other',
    }
  }),
)
const wrong = computed(
  () => groups.value.some((g) => g.state === 'other') || clean.value.length > props.of.fingerprint.length,
)
const whole = computed(() => clean.value === props.of.fingerprint)
async function read(e: Event) {
  const input = e.target as HTMLInputElement
  error.value = null
  try {
    const file = input.files?.[0]
    if (file) typed.value = await fingerprintIn(file)
  } catch (x) {
    error.value = x
  } finally {
    input.value = ''
  }
}
async function go() {
  error.value = null
  try {
    for (const source of [props.source, ...also.value])
      await post(`/keys/${props.of.fingerprint}/vouch`, {
        fingerprint: clean.value,
        source,
        evidence: evidence.value,
      })
    emit('done', [props.source, ...also.value])
    emit('close')
  } catch (e) {
    error.value = e // what was decided before it stays
  } finally {
    await client.invalidateQueries()
  }
}
</script>
<template>
  <Modal open :title="`May this key sign ${source}?`" @close="emit('close')">
    <form @submit.prevent="go">
      <dl class="facts mb-4">
        <dt>Key</dt>
        <dd>{{ of.user_ids.join('; ') || 'no user ID' }}</dd>
        <dt>For</dt>
        <dd>
          {{ also.length ? 'the sources ' + [source, ...also].join(', ') : 'the source ' + source }}, and
          nothing else
        </dd>
        <template v-if="others.length && !first">
          <dt>Also for</dt>
          <dd class="flex flex-wrap gap-x-4">
            <label v-for="n in others" :key="n" class="flex items-center gap-1.5"
              ><input v-model="also" type="checkbox" :value="n" />{{ n }}</label
            >
          </dd>
        </template>
        <template v-if="first">
          <dt>First</dt>
          <dd>
            {{ first.by }} vouched for it: {{ first.evidence }}. With yours it counts: compare it yourself, on
            a road of your own.
          </dd>
        </template>
      </dl>
      <label for="typed" class="mb-1 block"
        >The whole fingerprint, as its owner told you through another channel</label
      >
      <div class="flex gap-2">
        <input
          id="typed"
          v-model="typed"
          class="field mono min-w-0 flex-1"
          autocomplete="off"
          autofocus
          spellcheck="false"
        />
        <label
          class="btn shrink-0 cursor-pointer"
          title="a photograph of the owner's QR code, or a text file; the key itself does not count"
          >Read from picture<input
            type="file"
            accept="image/*,text/plain"
            class="sr-only"
            aria-label="A picture of a QR code, or a text file"
            @change="read"
        /></label>
      </div>
      <div class="mono mt-2 grid grid-cols-10 gap-1" aria-hidden="true">
        <span
          v-for="(g, i) in groups"
          :key="i"
          class="rounded border px-1 py-0.5 text-center"
          :class="
            {
              same: 'border-moss/50 bg-moss-soft text-moss',
              other: 'border-flare/60 bg-flare-soft text-flare',
              open: 'border-line text-slate',
            }[g.state]
          "
          >{{ g.have || '····' }}</span
        >
      </div>
      <p class="mt-2 h-5" aria-live="polite">
        <Mark v-if="whole" kind="good" word="matches the fingerprint of this key" /><Mark
          v-else-if="wrong"
          kind="error"
          word="does not match: do not vouch for this key"
        /><span v-else class="text-slate">{{ clean.length }} of {{ of.fingerprint.length }} digits</span>
      </p>
      <label for="evidence" class="mt-3 mb-1 block">Evidence: who compared it, and how</label>
      <input
        id="evidence"
        v-model="evidence"
        class="field"
        placeholder="Read out by the Tarn release desk, call 4471"
      />
      <Trouble :error="error" class="mt-3" />
      <div class="mt-5 flex justify-end gap-2">
        <button type="button" class="btn" @click="emit('close')">Cancel</button
        ><button class="btn btn-go" :disabled="!whole || !evidence.trim()">Vouch for key</button>
      </div>
    </form>
  </Modal>
</template>
