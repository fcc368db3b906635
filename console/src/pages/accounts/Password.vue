<script setup lang="ts">
// Chooses the password of one's own account.
import { ref } from 'vue'
import { call, type Account } from '../../api'
import Modal from '../../parts/Modal.vue'
import Trouble from '../../parts/Trouble.vue'
const props = defineProps<{ account: Account }>()
const emit = defineEmits<{ close: []; done: [] }>()
const before = ref('')
const word = ref('')
const again = ref('')
const error = ref<unknown>(null)
const byWord = props.account.sessions.some((s) => s.current && s.by === 'password')
async function go() {
  error.value = null
  try {
    await call('PUT', '/accounts/' + encodeURIComponent(props.account.name) + '/password', {
      before: before.value,
      password: word.value,
    })
    emit('done')
    emit('close')
  } catch (e) {
    error.value = e
  }
}
</script>
<template>
  <Modal open title="Set password" @close="emit('close')">
    <form @submit.prevent="go">
      <input type="text" class="hidden" autocomplete="username" :value="account.name" readonly />
      <template v-if="byWord">
        <label for="before" class="mb-1 block">Current password</label>
        <input
          id="before"
          v-model="before"
          class="field mb-3"
          type="password"
          autocomplete="current-password"
          required
        />
      </template>
      <label for="word" class="mb-1 block">New password, at least 12 characters</label>
      <input id="word" v-model="word" class="field" type="password" autocomplete="new-password" required />
      <label for="again" class="mt-3 mb-1 block">Repeat new password</label>
      <input id="again" v-model="again" class="field" type="password" autocomplete="new-password" required />
      <p v-if="again && again !== word" role="status" class="mt-1 text-flare">The passwords differ.</p>
      <p class="mt-2 text-slate">Other sessions that were started with a password end.</p>
      <Trouble :error="error" class="mt-3" />
      <div class="mt-4 flex justify-end gap-2">
        <button type="button" class="btn" @click="emit('close')">Cancel</button>
        <button class="btn btn-go" :disabled="!word || word !== again">Save password</button>
      </div>
    </form>
  </Modal>
</template>
