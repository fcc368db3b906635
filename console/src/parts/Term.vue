<script setup lang="ts">
// Explains a word where it stands: by a click or by Enter, until Escape or a click elsewhere.
import { QuestionMarkCircleIcon } from '@heroicons/vue/24/outline'
import { ref, useId } from 'vue'
import { terms, type Term } from '../terms'

const props = defineProps<{ of: Term; word?: string }>()
const id = useId()
const box = ref<HTMLElement | null>(null)
const button = ref<HTMLElement | null>(null)
/** Puts the explanation below its button, within the window. */
function place(e: ToggleEvent) {
  if (e.newState !== 'open' || !box.value || !button.value) return
  const at = button.value.getBoundingClientRect()
  box.value.style.left = Math.max(8, Math.min(at.left - 8, window.innerWidth - 328)) + 'px'
  box.value.style.top = at.bottom + 6 + 'px'
}
</script>
<template>
  <span class="inline-flex align-[-3px]"
    ><button
      ref="button"
      type="button"
      class="ml-0.5 inline-flex p-0.5 text-slate hover:text-ink"
      :popovertarget="id"
      :aria-label="`What ${props.word ?? props.of} means`"
    >
      <QuestionMarkCircleIcon class="size-3.5" aria-hidden="true" /></button
    ><span
      :id="id"
      ref="box"
      popover
      role="note"
      class="panel fixed m-0 w-80 px-3 py-2 text-left text-[13px] leading-[1.45] font-normal whitespace-normal text-ink shadow-lg"
      @beforetoggle="place($event as ToggleEvent)"
      >{{ terms[of] }}</span
    ></span
  >
</template>
