<script setup lang="ts">
// Shows what going back to a revision would change, of one object or of everything,
// and does it when asked to.
import { RadioGroup, RadioGroupOption } from '@headlessui/vue'
import { computed, ref, watch } from 'vue'
import { call, get, type Judgement } from '../api'
import Findings from './Findings.vue'
import Changed from './Changed.vue'
import Losses from './Losses.vue'
import Modal from './Modal.vue'
import Trouble from './Trouble.vue'

const props = defineProps<{ revision: number; object: string }>()
const emit = defineEmits<{ close: []; done: [] }>()
const all = ref(false)
const would = ref<Judgement | null>(null)
const error = ref<unknown>(null)
const path = `/revisions/${props.revision}/restore`
const named = computed(() => props.object.replace('/', ' '))

watch(
  all,
  async () => {
    would.value = null
    error.value = null
    try {
      would.value = await get<Judgement>(
        all.value ? path : `${path}?object=${encodeURIComponent(props.object)}`,
      )
    } catch (e) {
      error.value = e
    }
  },
  { immediate: true },
)

async function restore() {
  try {
    await call('POST', path, all.value ? {} : { object: props.object })
    emit('done')
  } catch (e) {
    error.value = e
  }
}
</script>
<template>
  <Modal open wide :title="'Restore revision ' + revision" @close="emit('close')">
    <RadioGroup v-model="all" class="mb-3 flex gap-2" aria-label="What to restore">
      <RadioGroupOption
        v-for="o in [false, true]"
        :key="String(o)"
        v-slot="{ checked }"
        :value="o"
        as="template"
      >
        <button class="btn" :class="{ 'btn-go': checked }">
          {{ o ? 'All definitions' : 'Only ' + named }}
        </button>
      </RadioGroupOption>
    </RadioGroup>
    <Trouble :error="error" />
    <template v-if="would">
      <p v-if="!would.changes.length" class="text-slate">
        No changes: the definitions are those of that revision.
      </p>
      <div v-else class="panel max-h-80 overflow-auto">
        <Losses :of="would.losses" />
        <table class="grid-table">
          <thead>
            <tr>
              <th>Object</th>
              <th>Field</th>
              <th>Becomes</th>
            </tr>
          </thead>
          <tbody>
            <template v-for="c in would.changes" :key="c.kind + c.name">
              <tr v-if="c.action !== 'change'">
                <td>{{ c.kind }} {{ c.name }}</td>
                <td colspan="2">{{ c.action === 'add' ? 'added again' : 'removed' }}</td>
              </tr>
              <tr v-for="f in c.action === 'change' ? c.fields : []" :key="f.path">
                <td>{{ c.kind }} {{ c.name }}</td>
                <td>{{ f.path }}</td>
                <td class="mono"><Changed :of="f" /></td>
              </tr>
            </template>
          </tbody>
        </table>
      </div>
      <Findings
        v-if="would.findings.some((f) => f.severity === 'error')"
        class="mt-3"
        :findings="would.findings"
      />
      <p class="mt-3 text-slate">Decisions about keys do not change.</p>
    </template>
    <div class="mt-4 flex justify-end gap-2">
      <button class="btn" @click="emit('close')">Cancel</button>
      <button class="btn btn-go" :disabled="!would?.changes.length" @click="restore">Restore</button>
    </div>
  </Modal>
</template>
