<script setup lang="ts">
import { ref } from 'vue'
import { ended, signIn } from '../../api'
import Trouble from '../../parts/Trouble.vue'

const way = ref(localStorage.getItem('stockade-sign-in') ?? 'token')
const text = ref('')
const account = ref('')
const password = ref('')
const error = ref<unknown>(null)
const busy = ref(false)
async function go() {
  busy.value = true
  error.value = null
  try {
    await signIn(
      way.value === 'token'
        ? { token: text.value.trim() }
        : { account: account.value.trim(), password: password.value },
    )
    localStorage.setItem('stockade-sign-in', way.value)
  } catch (e) {
    error.value = e
  } finally {
    busy.value = false
  }
}
</script>
<template>
  <main class="flex h-full items-start justify-center pt-[18vh]">
    <form class="panel w-[420px] p-6" @submit.prevent="go">
      <div class="mb-4 flex items-center gap-2">
        <img src="/icon.svg" alt="" class="size-6" />
        <h1>Stockade</h1>
      </div>
      <p v-if="ended" role="status" class="mb-3">
        Your session has ended. Sign in again to continue where you were.
      </p>
      <div class="mb-3 flex gap-1" role="group" aria-label="Sign in with">
        <button
          v-for="w in ['token', 'password']"
          :key="w"
          type="button"
          class="btn"
          :class="way === w ? '!border-tide !text-tide' : ''"
          :aria-pressed="way === w"
          @click="way = w"
        >
          {{ w === 'token' ? 'A token' : 'A password' }}
        </button>
      </div>
      <template v-if="way === 'token'">
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
          The token of the first warden is in the file <code>warden.token</code> in the data folder of the
          service. Others get a token from a warden.
        </p>
      </template>
      <template v-else>
        <label class="mb-1 block" for="account">Account</label>
        <input id="account" v-model="account" class="field" autocomplete="username" autofocus required />
        <label class="mt-3 mb-1 block" for="password">Password</label>
        <input
          id="password"
          v-model="password"
          class="field"
          type="password"
          autocomplete="current-password"
          required
        />
        <p class="mt-2 text-slate">
          To set a password, sign in with a token first, then use Accounts or
          <code>stockade account set-password</code>.
        </p>
      </template>
      <Trouble :error="error" class="mt-3" />
      <button
        class="btn btn-go mt-4 w-full justify-center"
        :disabled="busy || !(way === 'token' ? text : account && password)"
      >
        Sign in
      </button>
    </form>
  </main>
</template>
