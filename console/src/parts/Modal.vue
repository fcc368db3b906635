<script setup lang="ts">
import { Dialog, DialogPanel, DialogTitle } from '@headlessui/vue'
defineProps<{ open: boolean; title: string; wide?: boolean }>()
const emit = defineEmits<{ close: [] }>()
</script>
<template>
  <Dialog :open="open" class="relative z-50" @close="emit('close')">
    <div class="fixed inset-0 bg-black/45" aria-hidden="true" />
    <div class="fixed inset-0 flex items-start justify-center overflow-auto p-4 pt-[9vh]">
      <DialogPanel class="panel w-full shadow-xl" :class="wide ? 'max-w-4xl' : 'max-w-xl'">
        <DialogTitle class="border-b border-line px-5 py-3 text-[15px] font-semibold">{{
          title
        }}</DialogTitle>
        <div class="p-5"><slot /></div>
      </DialogPanel>
    </div>
  </Dialog>
</template>
