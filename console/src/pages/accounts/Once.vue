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
    <p class="mb-2">Copy the token now: it is not shown again. Hand it over through a private channel.</p>
    <Copy :text="made.token" what="the token" />
    <div class="mt-4 flex justify-end">
      <button class="btn btn-go" @click="emit('close')">I have saved it</button>
    </div>
  </Modal>
</template>
