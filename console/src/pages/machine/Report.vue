<script setup lang="ts">
// Brings in what a machine has installed: pasted, or from a file.
import { useQueryClient } from '@tanstack/vue-query'
import { ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { post } from '../../api'
import Act from '../../parts/Act.vue'
import Copy from '../../parts/Copy.vue'
import Trouble from '../../parts/Trouble.vue'

const props = defineProps<{ machine: string; prints?: string }>()
const client = useQueryClient()
const route = useRoute()
const router = useRouter()
const text = ref('')
const error = ref<unknown>(null)
const busy = ref(false)
async function pick(e: Event) {
  const file = (e.target as HTMLInputElement).files?.[0]
  if (file) text.value = await file.text()
}
async function send() {
  error.value = null
  busy.value = true
  try {
    await post('/machines/' + encodeURIComponent(props.machine) + '/report', { installed: text.value })
    text.value = ''
    client.invalidateQueries()
    router.replace({ query: { ...route.query, tab: undefined } })
  } catch (e) {
    error.value = e
  } finally {
    busy.value = false
  }
}
</script>
<template>
  <form class="panel p-3" @submit.prevent="send">
    <template v-if="prints">
      <p class="mb-1 text-slate">Run this on the machine:</p>
      <Copy :text="prints" what="the command" />
    </template>
    <label for="installed" class="mt-3 mb-1 block">Paste its output, or choose a file</label>
    <textarea id="installed" v-model="text" class="field mono !h-40" spellcheck="false" />
    <input type="file" class="field mt-2" aria-label="File with the list" @change="pick" />
    <Trouble :error="error" class="mt-3" />
    <div class="mt-3 flex items-center justify-end gap-3">
      <span class="text-slate">It replaces the last report of the machine.</span>
      <Act does="reportMachine" class="btn-go" :disabled="busy || !text.trim()">Import report</Act>
    </div>
  </form>
</template>
