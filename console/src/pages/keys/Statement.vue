<script setup lang="ts">
// What a paired site states about keys: shown, and vouched for on its word.
import { useQueryClient } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { post, type Statement } from '../../api'
import { count } from '../../format'
import Findings from '../../parts/Findings.vue'
import Finger from '../../parts/Finger.vue'
import Mark from '../../parts/Mark.vue'
import Modal from '../../parts/Modal.vue'
import Moment from '../../parts/Moment.vue'
import Trouble from '../../parts/Trouble.vue'
import { base64 } from '../describe/draft'

const emit = defineEmits<{ close: [] }>()
const client = useQueryClient()
const data = ref('')
const st = ref<Statement | null>(null)
const done = ref(false)
const error = ref<unknown>(null)
const fresh = computed(() => (st.value?.vouches ?? []).filter((v) => v.outcome === 'vouch').length)
const words: Record<string, ['note' | 'good' | 'none', string]> = {
  vouch: ['note', 'vouch for'],
  stands: ['good', 'already vouched'],
  passed: ['none', 'skipped'],
}
async function look(e: Event) {
  const input = e.target as HTMLInputElement
  error.value = null
  st.value = null
  try {
    const file = input.files?.[0]
    if (!file) return
    data.value = await base64(file)
    st.value = await post<Statement>('/keys/statement', { data: data.value, look: true })
  } catch (x) {
    error.value = x
  } finally {
    input.value = ''
  }
}
async function go() {
  error.value = null
  try {
    st.value = await post<Statement>('/keys/statement', { data: data.value })
    done.value = true
    await client.invalidateQueries()
  } catch (x) {
    error.value = x
  }
}
</script>
<template>
  <Modal open wide title="Import a statement of a paired site" @close="emit('close')">
    <p class="mb-3 text-slate">
      The vouches of another site, with their evidence. A warden must first have compared the key of that site
      and paired the sites: <code>stockade site pair NAME FILE</code>.
    </p>
    <label v-if="!done" class="btn cursor-pointer">
      Choose file<input type="file" class="sr-only" aria-label="Statement" @change="look" />
    </label>
    <Trouble :error="error" class="mt-3" />
    <template v-if="st">
      <p class="mt-3">
        <b class="font-semibold">{{ st.site }}</b> (<Finger :of="st.fingerprint" brief />) stated this
        <Moment :at="st.at" />:
      </p>
      <div class="panel mt-2 max-h-80 overflow-auto">
        <div
          v-for="v in st.vouches"
          :key="v.source + v.fingerprint"
          class="border-b border-line/60 px-3 py-1.5"
        >
          <Mark
            :kind="words[v.outcome][0]"
            :word="done && v.outcome === 'vouch' ? 'recorded' : words[v.outcome][1]"
            class="mr-1"
          />
          {{ v.user_id }} for <b class="font-semibold">{{ v.source }}</b>
          <div class="mono text-slate">{{ v.fingerprint.replace(/(.{4})(?=.)/g, '$1 ') }}</div>
          <div class="text-slate">{{ v.by }}, <Moment :at="v.at" />: {{ v.evidence }}</div>
          <div v-if="v.why">{{ v.why }}</div>
        </div>
        <Findings :findings="st.findings" />
      </div>
    </template>
    <div class="mt-4 flex items-center justify-end gap-2">
      <Mark v-if="done" kind="good" word="recorded, with its evidence" class="mr-auto" />
      <span v-else-if="st && !fresh" class="mr-auto text-slate">It contains nothing new.</span>
      <button class="btn" @click="emit('close')">{{ done ? 'Close' : 'Cancel' }}</button>
      <button v-if="!done" class="btn btn-go" :disabled="!fresh" @click="go">
        {{ fresh ? 'Vouch for ' + count(fresh, 'key') : 'Vouch' }}
      </button>
    </div>
  </Modal>
</template>
