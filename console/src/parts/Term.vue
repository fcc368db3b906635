<script setup lang="ts">
// Explains a word where it stands: on hover and on focus; a tap or a click keeps the explanation open.
import { QuestionMarkCircleIcon } from '@heroicons/vue/24/outline'
import { ref, useId } from 'vue'
import { meaning, type Term } from '../terms'

const props = defineProps<{ of: Term; word?: string; plain?: boolean }>()
const id = useId()
const box = ref<HTMLElement | null>(null)
const button = ref<HTMLElement | null>(null)
const kept = ref(false)

/** Shows the explanation below its button, within the window. */
function show() {
  if (!box.value || !button.value || box.value.matches(':popover-open')) return
  box.value.showPopover()
  const at = button.value.getBoundingClientRect()
  const room = window.innerHeight - at.bottom - 6
  box.value.style.left = Math.max(8, Math.min(at.left - 8, window.innerWidth - 328)) + 'px'
  box.value.style.top =
    (box.value.offsetHeight > room ? at.top - 6 - box.value.offsetHeight : at.bottom + 6) + 'px'
}
function hide() {
  kept.value = false
  if (box.value?.matches(':popover-open')) box.value.hidePopover()
}
function leave() {
  if (!kept.value && document.activeElement !== button.value) hide()
}
function press() {
  if (kept.value) hide()
  else {
    show()
    kept.value = true
  }
}
</script>
<template>
  <span class="inline-flex" :class="props.plain ? '' : 'align-[-3px]'" @mouseenter="show" @mouseleave="leave"
    ><button
      ref="button"
      type="button"
      :class="
        props.plain ? 'text-tide hover:underline' : 'ml-0.5 inline-flex p-0.5 text-slate hover:text-ink'
      "
      :aria-label="props.plain ? undefined : `What ${props.word ?? props.of} means`"
      :aria-describedby="id"
      @click.stop="press"
      @focus="show"
      @blur="hide"
      @keydown.esc="hide"
    >
      <template v-if="props.plain">{{ props.word }}</template><QuestionMarkCircleIcon
        v-else
        class="size-3.5"
        aria-hidden="true"
      /></button
    ><span
      :id="id"
      ref="box"
      popover="manual"
      role="note"
      class="panel fixed m-0 w-80 px-3 py-2 text-left text-[13px] leading-[1.45] font-normal whitespace-normal text-ink shadow-lg"
      >{{ meaning(of) }}</span
    ></span
  >
</template>
