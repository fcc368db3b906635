<script setup lang="ts">
// A fingerprint in groups of four; copied whole.
import { CheckIcon, ClipboardIcon } from '@heroicons/vue/24/outline'
import { ref } from 'vue'
import { spaced } from '../format'
const props = defineProps<{ of: string; brief?: boolean }>()
const done = ref(false)
async function copy() {
  await navigator.clipboard?.writeText(props.of)
  done.value = true
  setTimeout(() => (done.value = false), 1200)
}
</script>
<template>
  <span class="mono inline-flex items-center gap-1" :title="spaced(of)"
    ><span :class="brief ? 'whitespace-nowrap' : ''">{{
      brief ? spaced(of).slice(0, 9) + ' … ' + spaced(of).slice(-9) : spaced(of)
    }}</span>
    <button
      class="text-slate hover:text-ink"
      aria-label="Copy the whole fingerprint"
      @click.stop.prevent="copy"
    >
      <CheckIcon v-if="done" class="size-3.5 text-moss" /><ClipboardIcon v-else class="size-3.5" /></button
  ></span>
</template>
