<script setup lang="ts">
import { ref } from 'vue'
import { signIn } from '../../api'
import Trouble from '../../parts/Trouble.vue'
const text = ref('')
const error = ref<unknown>(null)
const busy = ref(false)
async function go() {
  busy.value = true
  error.value = null
  try {
    await signIn(text.value)
  } catch (e) {
    error.value = e
  } finally {
    busy.value = false
  }
}
</script>
<template>
  <div class="flex h-full items-start justify-center pt-[18vh]">
    <form class="panel w-[420px] p-6" @submit.prevent="go">
      <div class="mb-4 flex items-center gap-2">
        <img src="/icon.svg" alt="" class="size-6" />
        <h1>Stockade</h1>
      </div>
      <label class="mb-1 block" for="token">Token</label>
      <input
        id="token"
        v-model="text"
        class="field mono"
        type="password"
        autocomplete="off"
        autofocus
        required
      />
      <p class="mt-2 text-slate">
        The first warden's token lies in <code>warden.token</code> in the data folder of the service. Others
        get theirs from a warden.
      </p>
      <Trouble :error="error" class="mt-3" />
      <button class="btn btn-go mt-4 w-full justify-center" :disabled="busy || !text">Sign in</button>
    </form>
  </div>
</template>
