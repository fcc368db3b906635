<script setup lang="ts">
// Puts a machine into another group, or notes something of it.
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { ref } from 'vue'
import { call, get, type Machine } from '../../api'
import Modal from '../../parts/Modal.vue'
import Trouble from '../../parts/Trouble.vue'

const props = defineProps<{ machine: Machine }>()
const emit = defineEmits<{ close: [] }>()
const client = useQueryClient()
const group = ref(props.machine.group)
const note = ref(props.machine.note)
const error = ref<unknown>(null)
const groups = useQuery({
  queryKey: ['names'],
  queryFn: () => get<{ names: Record<string, string[]> }>('/definitions/names'),
})
async function save() {
  error.value = null
  try {
    await call('PUT', '/machines/' + encodeURIComponent(props.machine.name), {
      group: group.value,
      note: note.value.trim(),
    })
    client.invalidateQueries()
    emit('close')
  } catch (e) {
    error.value = e
  }
}
</script>
<template>
  <Modal open :title="'Change ' + machine.name" @close="emit('close')">
    <form @submit.prevent="save">
      <label for="change-group" class="mb-1 block">Group</label>
      <select id="change-group" v-model="group" class="field">
        <option v-for="g in groups.data.value?.names.group ?? [machine.group]" :key="g">{{ g }}</option>
      </select>
      <label for="change-note" class="mt-3 mb-1 block">Note</label>
      <input id="change-note" v-model="note" class="field" maxlength="500" />
      <Trouble :error="error" class="mt-3" />
      <div class="mt-4 flex justify-end gap-2">
        <button type="button" class="btn" @click="emit('close')">Cancel</button>
        <button class="btn btn-go">Save</button>
      </div>
    </form>
  </Modal>
</template>
