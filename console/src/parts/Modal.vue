<script setup lang="ts">
import { Dialog, DialogPanel, DialogTitle } from '@headlessui/vue'
import { onUnmounted, ref, watch, type ComponentPublicInstance } from 'vue'
const props = defineProps<{ open: boolean; title: string; wide?: boolean }>()
const emit = defineEmits<{ close: [] }>()
const panel = ref<ComponentPublicInstance | null>(null)
// Where the focus was before it was asked. It returns there however the question ends; where what
// had it is gone, to the page.
let before: HTMLElement | null = null
watch(
  () => props.open,
  (open) => {
    if (!open) return giveBack()
    before = document.activeElement as HTMLElement | null
    setTimeout(enter, 50) // after the dialog has looked for something that takes it
  },
  { immediate: true },
)
onUnmounted(giveBack)
/** Takes the focus where there is nothing yet that could: what the question is about is asked for. */
function enter() {
  const el = panel.value?.$el as HTMLElement | undefined
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
  <Dialog :open="open" class="relative z-50" @close="emit('close')">
    <div class="fixed inset-0 bg-black/45" aria-hidden="true" />
    <div class="fixed inset-0 flex items-start justify-center overflow-auto p-4 pt-[9vh]">
      <DialogPanel
        ref="panel"
        tabindex="-1"
        class="panel w-full shadow-xl focus:outline-none"
        :class="wide ? 'max-w-4xl' : 'max-w-xl'"
      >
        <DialogTitle class="border-b border-line px-5 py-3 text-[15px] font-semibold">{{
          title
        }}</DialogTitle>
        <div class="p-5"><slot /></div>
      </DialogPanel>
    </div>
  </Dialog>
</template>
