<script setup lang="ts">
// Takes the secret of a credential. What is typed is kept where the service refuses it, and
// gone when the dialog closes.
import { computed, ref } from 'vue'
import { call, type Credential } from '../../api'
import Modal from '../../parts/Modal.vue'
import Trouble from '../../parts/Trouble.vue'

const props = defineProps<{ of: Credential }>()
const emit = defineEmits<{ close: []; done: [] }>()
const secret = ref('')
const error = ref<unknown>(null)
const what = computed(
  () =>
    ({ login: `Password of ${props.of.user}`, token: 'Token' })[props.of.kind] ??
    'Client certificate and key, both in PEM',
)

async function read(e: Event) {
  const file = (e.target as HTMLInputElement).files?.[0]
  if (file) secret.value = await file.text()
}
async function give() {
  error.value = null
  try {
    await call('PUT', '/credentials/' + encodeURIComponent(props.of.name) + '/secret', {
      secret: secret.value,
    })
    emit('done')
  } catch (e) {
    error.value = e
  }
}
</script>
<template>
  <Modal open :title="'Save the secret of ' + of.name" @close="emit('close')">
    <p>
      Stockade keeps the secret encrypted, never shows it again, and sends it only to these hosts, over TLS or
      to a proxy:
    </p>
    <ul class="mono my-2 list-inside list-disc">
      <li v-for="h in of.hosts" :key="h">{{ h }}</li>
    </ul>
    <p v-if="of.given" class="mb-2 text-slate">It replaces the secret that was saved before.</p>
    <form @submit.prevent="give">
      <label for="secret" class="mb-1 block">{{ what }}</label>
      <input
        v-if="of.kind !== 'certificate'"
        id="secret"
        v-model="secret"
        type="password"
        class="field"
        autocomplete="off"
      />
      <template v-else>
        <textarea
          id="secret"
          v-model="secret"
          class="field mono h-40"
          spellcheck="false"
          autocomplete="off"
        />
        <input type="file" class="mt-2" aria-label="File with certificate and key" @change="read" />
      </template>
      <Trouble :error="error" class="mt-3" />
      <div class="mt-4 flex justify-end gap-2">
        <button type="button" class="btn" @click="emit('close')">Cancel</button>
        <button type="submit" class="btn btn-go" :disabled="!secret">Save secret</button>
      </div>
    </form>
  </Modal>
</template>
