<script setup lang="ts">
// Gives what is recorded another name: all that names it follows, in what is recorded.
import { useQueryClient } from '@tanstack/vue-query'
import { ref } from 'vue'
import { post, type Judgement } from '../../../api'
import Modal from '../../../parts/Modal.vue'
import Trouble from '../../../parts/Trouble.vue'
import Preview from '../Preview.vue'
import type { Named } from './document'

const props = defineProps<{ of: Named }>()
const emit = defineEmits<{ close: []; done: [to: string] }>()
const client = useQueryClient()
const to = ref('')
const would = ref<Judgement | null>(null)
const error = ref<unknown>(null)
async function ask(look: boolean) {
  error.value = null
  try {
    const j = await post<Judgement>('/definitions/rename', {
      kind: props.of.kind,
      name: props.of.name,
      to: to.value.trim(),
      look,
    })
    if (look) return void (would.value = j)
    client.invalidateQueries()
    emit('done', to.value.trim())
  } catch (e) {
    error.value = e
    would.value = null
  }
}
</script>
<template>
  <Modal open wide :title="`Rename the recorded ${of.kind} ${of.name}`" @close="emit('close')">
    <form @submit.prevent="ask(!would)">
      <label for="rename-to" class="mb-1 block">New name</label>
      <input
        id="rename-to"
        v-model="to"
        class="field mono"
        autocomplete="off"
        spellcheck="false"
        required
        @input="would = null"
      />
      <p class="mt-2 text-slate">
        One revision changes the name and every reference to it. For a source, you vouch for its keys again
        under the new name, with the recorded evidence.
        <template v-if="of.kind === 'source'"
          >Existing editions contain it under its old name, which has no vouched keys then. Build again and
          move the lanes before you write new files for machines.</template
        >
      </p>
      <Preview v-if="would" class="mt-3" :of="would" />
      <Trouble :error="error" class="mt-3" />
      <div class="mt-4 flex justify-end gap-2">
        <button type="button" class="btn" @click="emit('close')">Cancel</button>
        <button class="btn btn-go" :disabled="!to.trim()">
          {{ would ? 'Rename' : 'Show changes' }}
        </button>
      </div>
    </form>
  </Modal>
</template>
