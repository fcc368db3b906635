<script setup lang="ts">
// The definition of a source as text, checked by the service as it is typed.
import { computed, ref, watch } from 'vue'
import { post, postOver, type Finding, type Judgement, type Source } from '../../api'
import Findings from '../../parts/Findings.vue'
import Mark from '../../parts/Mark.vue'
import Trouble from '../../parts/Trouble.vue'
import Writers from '../../parts/Writers.vue'

const props = defineProps<{ source: Source & { etag: string } }>()
const emit = defineEmits<{ recorded: [] }>()
const recorded = props.source.text ?? ''
const seen = ref(props.source.etag) // of what is being edited
const text = ref(recorded)
const live = ref<Judgement | null>(null)
const busy = ref(false)
const error = ref<unknown>(null)
const documents = computed(() => [{ name: props.source.name + '.yaml', text: text.value }])

let timer = 0
function check() {
  clearTimeout(timer)
  timer = window.setTimeout(async () => {
    if (!text.value) return
    try {
      live.value = await post<Judgement>('/definitions/compare', { documents: documents.value })
    } catch (e) {
      error.value = e
    }
  }, 300)
}
watch(text, check, { immediate: true })
const about = computed<Finding[]>(() =>
  (live.value?.findings ?? []).filter(
    (f) => f.severity !== 'note' && (f.place?.file || (f.object ?? '').endsWith(' ' + props.source.name)),
  ),
)
function settled(now: { text: string }[], etag: string) {
  const typed = now[0]?.text ?? ''
  if (typed !== text.value) text.value = typed
  seen.value = etag
  error.value = null
  check() // what it changes is something else now
}
async function record() {
  busy.value = true
  error.value = null
  try {
    await postOver<Judgement>(
      '/definitions/record',
      { documents: documents.value, summary: 'edit source ' + props.source.name },
      seen.value,
    )
    emit('recorded')
  } catch (e) {
    error.value = e
  } finally {
    busy.value = false
  }
}
</script>
<template>
  <Trouble :error="error" class="mb-4" />
  <Writers :documents="documents" :since="seen" @settled="settled" @crossed="check" />
  <div class="grid grid-cols-[minmax(0,1fr)_minmax(0,1fr)] gap-5">
    <div>
      <textarea
        v-model="text"
        class="field mono !h-[420px] resize-y leading-5"
        spellcheck="false"
        aria-label="Definition"
      />
      <div class="mt-2 flex items-center gap-2">
        <button class="btn btn-go" :disabled="busy || !live?.recordable" @click="record">Record</button>
        <button class="btn" :disabled="text === recorded" @click="text = recorded">
          Take back what was typed
        </button>
        <span class="text-slate">{{
          live?.changes.length
            ? 'would change: ' + live.changes.map((c) => c.kind + ' ' + c.name).join(', ')
            : 'as recorded'
        }}</span>
      </div>
    </div>
    <div class="space-y-4">
      <section>
        <h2 class="mb-1.5">Findings in this text</h2>
        <div class="panel">
          <Findings v-if="about.length" :findings="about" />
          <p v-else class="px-3 py-2">
            <Mark v-if="live" kind="good" word="nothing to find fault with" />
            <Mark v-else kind="busy" word="being checked" />
          </p>
        </div>
      </section>
      <section v-if="live?.recordable">
        <h2 class="mb-1.5">What recording changes</h2>
        <div class="panel overflow-hidden">
          <table class="grid-table">
            <thead>
              <tr>
                <th>Field</th>
                <th>Now</th>
                <th>Then</th>
              </tr>
            </thead>
            <tbody>
              <template v-for="c in live.changes" :key="c.name">
                <tr v-for="f in c.fields" :key="f.path">
                  <td>{{ f.path }}</td>
                  <td class="mono">{{ f.old || '–' }}</td>
                  <td class="mono">{{ f.new || '–' }}</td>
                </tr>
              </template>
            </tbody>
          </table>
        </div>
      </section>
    </div>
  </div>
</template>
