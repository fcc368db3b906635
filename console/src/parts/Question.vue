<script setup lang="ts">
// Asks before something is done.
import Modal from './Modal.vue'

defineProps<{ open: boolean; title: string; verb: string; stop?: boolean; disabled?: boolean }>()
const emit = defineEmits<{ close: []; yes: [] }>()
</script>
<template>
  <Modal :open="open" :title="title" @close="emit('close')">
    <slot />
    <div class="mt-4 flex justify-end gap-2">
      <button class="btn" @click="emit('close')">Cancel</button>
      <button class="btn" :class="stop ? 'btn-stop' : 'btn-go'" :disabled="disabled" @click="emit('yes')">
        {{ verb }}
      </button>
    </div>
  </Modal>
</template>
