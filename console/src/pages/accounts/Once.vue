<script setup lang="ts">
// A token that was made, shown this once.
import type { NewToken } from '../../api'
import Copy from '../../parts/Copy.vue'
import Modal from '../../parts/Modal.vue'
defineProps<{ made: NewToken }>()
const emit = defineEmits<{ close: [] }>()
</script>
<template>
  <Modal open :title="'The token of ' + made.account" @close="emit('close')">
    <p class="mb-2">It is shown this once. Hand it over on a road that nobody else reads.</p>
    <Copy :text="made.token" what="the token" />
    <div class="mt-4 flex justify-end">
      <button class="btn btn-go" @click="emit('close')">It is kept</button>
    </div>
  </Modal>
</template>
