<script setup lang="ts">
// Asks whether an edition is to be retired, and retires it. What that would free is said by who asks.
import { useQueryClient } from '@tanstack/vue-query'
import { ref } from 'vue'
import { call } from '../api'
import Question from './Question.vue'
import Trouble from './Trouble.vue'
const props = defineProps<{ of: { name: string; lanes: string[] } }>()
const emit = defineEmits<{ close: []; done: [] }>()
const client = useQueryClient()
const error = ref<unknown>(null)
async function retire() {
  error.value = null
  try {
    await call('DELETE', '/editions/' + props.of.name)
    await client.invalidateQueries()
    emit('done')
  } catch (e) {
    error.value = e
  }
}
</script>
<template>
  <Question open :title="'Retire ' + of.name" verb="Retire edition" stop @close="emit('close')" @yes="retire">
    <p v-if="of.lanes.length">
      The lane {{ of.lanes.join(', ') }} shows it. Move the lane to another edition first.
    </p>
    <p v-else>Stockade stops serving it. <slot /></p>
    <Trouble :error="error" class="mt-3" />
  </Question>
</template>
