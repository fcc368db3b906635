<script setup lang="ts">
// Sets a finding aside until a date.
import { useQueryClient } from '@tanstack/vue-query'
import { ref } from 'vue'
import { post, type Finding } from '../api'
import Modal from './Modal.vue'
import Trouble from './Trouble.vue'
const props = defineProps<{ of: Finding[] }>()
const emit = defineEmits<{ close: [] }>()
const client = useQueryClient()
const day = (ahead: number) => new Date(Date.now() + ahead * 86400_000).toISOString().slice(0, 10)
const until = ref(day(14))
const reason = ref('')
const error = ref<unknown>(null)
async function go() {
  error.value = null
  try {
    for (const f of props.of)
      await post('/aside', {
        object: f.object ?? '',
        code: f.code,
        cause: f.cause,
        severity: f.severity,
        text: f.text,
        until: until.value + 'T00:00:00Z',
        reason: reason.value,
      })
    emit('close')
  } catch (e) {
    error.value = e
  }
  client.invalidateQueries()
}
</script>
<template>
  <Modal
    open
    :title="of.length === 1 ? `Snooze ${of[0].code} of ${of[0].object}` : `Snooze ${of.length} findings`"
    @close="emit('close')"
  >
    <form @submit.prevent="go">
      <p class="mb-3">
        "Needs attention" leaves the finding out until then, unless it gets worse. The page of the object
        still shows it. The journal records who snoozed it, and why.
      </p>
      <label for="aside-until" class="mb-1 block">Until (UTC)</label>
      <input
        id="aside-until"
        v-model="until"
        class="field !w-48"
        type="date"
        :min="day(1)"
        :max="day(365)"
        required
      />
      <label for="aside-why" class="mt-3 mb-1 block">Why it can wait</label>
      <input id="aside-why" v-model="reason" class="field" maxlength="1000" required />
      <Trouble :error="error" class="mt-3" />
      <div class="mt-4 flex justify-end gap-2">
        <button type="button" class="btn" @click="emit('close')">Cancel</button>
        <button class="btn btn-go" :disabled="!reason.trim() || !until">Snooze</button>
      </div>
    </form>
  </Modal>
</template>
