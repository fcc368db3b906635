<script setup lang="ts">
import { Dialog, DialogPanel, DialogTitle } from '@headlessui/vue'
import { onUnmounted, ref, watch } from 'vue'
const props = defineProps<{ open: boolean; title: string; wide?: boolean }>()
const emit = defineEmits<{ close: [] }>()
const panel = ref<HTMLElement | null>(null)
// Whether something was typed, and whether it was told that it would be lost.
const typed = ref(false)
const told = ref(false)
/** Ends the question, unless what was typed would be lost without a word. */
function end() {
  if (typed.value && !told.value) told.value = true
  else emit('close')
}
// Where the mouse went down: a text that is marked up to the edge is no click beside the question.
let down: EventTarget | null = null
function press(e: PointerEvent) {
  down = e.target
}
function beside(e: MouseEvent) {
  if (e.target !== e.currentTarget || down !== e.target) return
  if (typed.value) told.value = true
  else emit('close')
}
// Where the focus was before it was asked. It returns there however the question ends; where what
// had it is gone, to the page.
let before: HTMLElement | null = null
watch(
  () => props.open,
  (open) => {
    typed.value = told.value = false
    if (!open) return giveBack()
    before = document.activeElement as HTMLElement | null
    setTimeout(enter, 50) // after the dialog has looked for something that takes it
  },
  { immediate: true },
)
onUnmounted(giveBack)
/** Takes the focus where there is nothing yet that could: what the question is about is asked for. */
function enter() {
  const el = panel.value
  if (el?.isConnected && !el.contains(document.activeElement)) el.focus()
}
function giveBack() {
  const to = before
  before = null
  if (!to) return
  setTimeout(() => {
    const at = document.activeElement
    if (at && at !== document.body && at.isConnected) return
    if (to.isConnected && to !== document.body) to.focus()
    else document.querySelector('main')?.focus()
  })
}
</script>
<template>
  <Dialog :open="open" class="relative z-50" @close="end">
    <div class="fixed inset-0 bg-black/45" aria-hidden="true" />
    <DialogPanel
      class="fixed inset-0 flex items-start justify-center overflow-auto p-4 pt-[9vh]"
      @pointerdown="press"
      @click="beside"
    >
      <div
        ref="panel"
        tabindex="-1"
        class="panel w-full shadow-xl focus:outline-none"
        :class="wide ? 'max-w-4xl' : 'max-w-xl'"
        @input="typed = true"
      >
        <DialogTitle class="border-b border-line px-5 py-3 text-[15px] font-semibold">{{
          title
        }}</DialogTitle>
        <p
          v-if="told"
          role="alert"
          class="flex items-center gap-2 border-b border-line bg-lantern-soft px-5 py-2"
        >
          <span class="mr-auto">Your input was not saved.</span>
          <button class="btn" @click="told = false">Continue editing</button>
          <button class="btn btn-stop" @click="emit('close')">Discard</button>
        </p>
        <div class="p-5"><slot /></div>
      </div>
    </DialogPanel>
  </Dialog>
</template>
