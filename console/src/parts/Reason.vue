<script setup lang="ts">
// Asks why before something is done about a key, does it, and keeps what was typed
// where that fails.
import { ref } from 'vue'
import Modal from './Modal.vue'
import Trouble from './Trouble.vue'

const props = defineProps<{ title: string; verb: string; act: (reason: string) => Promise<unknown> }>()
const emit = defineEmits<{ close: []; done: [] }>()
const reason = ref('')
const error = ref<unknown>(null)

async function go() {
  error.value = null
  try {
    await props.act(reason.value)
    emit('done')
  } catch (e) {
    error.value = e
  }
}
</script>
<template>
  <Modal open :title="title" @close="emit('close')">
    <slot />
    <form @submit.prevent="go">
      <label for="why" class="mt-3 mb-1 block">Why</label>
      <input id="why" v-model="reason" class="field" />
      <Trouble :error="error" class="mt-3" />
      <div class="mt-4 flex justify-end gap-2">
        <button type="button" class="btn" @click="emit('close')">Cancel</button>
        <button class="btn btn-stop" :disabled="!reason.trim()">{{ verb }}</button>
      </div>
    </form>
  </Modal>
</template>
