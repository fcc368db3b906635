<script setup lang="ts">
// A fingerprint in groups of four; copied whole.
import { CheckIcon, ClipboardIcon } from '@heroicons/vue/24/outline'
import { nextTick, ref } from 'vue'
import { copied } from '../copy'
import { spaced } from '../format'
const props = defineProps<{ of: string; brief?: boolean }>()
const state = ref<'' | 'done' | 'not'>('')
const text = ref<HTMLElement | null>(null)
const whole = ref(false) // what is selected has to be all of it
async function copy() {
  whole.value = !navigator.clipboard
  await nextTick()
  state.value = (await copied(props.of, text.value)) ? 'done' : 'not'
  if (state.value === 'done') {
    whole.value = false
    setTimeout(() => (state.value = ''), 1200)
  }
}
</script>
<template>
  <span class="mono inline-flex items-center gap-1" :title="spaced(of)"
    ><span v-if="whole" ref="text">{{ of }}</span
    ><span v-else :class="brief ? 'whitespace-nowrap' : ''">{{
      brief ? spaced(of).slice(0, 9) + ' … ' + spaced(of).slice(-9) : spaced(of)
    }}</span>
    <button
      class="text-slate hover:text-ink"
      aria-label="Copy the whole fingerprint"
      @click.stop.prevent="copy"
    >
      <CheckIcon v-if="state === 'done'" class="size-3.5 text-moss" /><ClipboardIcon
        v-else
        class="size-3.5"
      />
    </button>
    <span v-if="state === 'not'" role="status" class="font-sans text-slate">press Ctrl+C</span></span
  >
</template>
