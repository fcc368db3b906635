<script setup lang="ts">
// The definition of a source as text, checked by the service as it is typed.
import { computed, ref, watch } from 'vue'
import { postOver, type Finding, type Judgement, type Source } from '../../api'
import Findings from '../../parts/Findings.vue'
import Lines from '../../parts/Lines.vue'
import Mark from '../../parts/Mark.vue'
import Tabs from '../../parts/Tabs.vue'
import Trouble from '../../parts/Trouble.vue'
import Writers from '../../parts/Writers.vue'
import Form from '../describe/form/Form.vue'
import { useJudged } from '../describe/judged'
import Preview from '../describe/Preview.vue'
import Act from '../../parts/Act.vue'

const props = defineProps<{ source: Source & { etag: string } }>()
const emit = defineEmits<{ recorded: [] }>()
const recorded = props.source.text ?? ''
const seen = ref(props.source.etag) // of what is being edited
const text = ref(recorded)
const busy = ref(false)
const error = ref<unknown>(null)
const documents = computed(() => [{ name: props.source.name + '.yaml', text: text.value }])

const { live, error: unjudged, check } = useJudged(() => ({ documents: documents.value }))
watch(unjudged, (e) => (error.value = e))
const about = computed<Finding[]>(() =>
  (live.value?.findings ?? []).filter(
    (f) =>
      f.severity !== 'note' &&
      (f.place?.file === documents.value[0].name || f.object === 'source ' + props.source.name),
  ),
)
const line = ref<number>()
function go(f: Finding) {
  line.value = undefined
  requestAnimationFrame(() => (line.value = f.place?.line))
}
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
      <div class="h-[calc(100vh-270px)] min-h-64">
        <Lines v-model="text" :findings="about" label="Definition" :at="line" />
      </div>
      <div class="mt-2 flex items-center gap-2">
        <Act does="record" class="btn-go" :disabled="busy || !live?.recordable" @click="record">Record</Act>
        <button class="btn" :disabled="text === recorded" @click="text = recorded">Revert</button>
        <span class="text-slate">{{
          live?.changes.length
            ? 'would change: ' + live.changes.map((c) => c.kind + ' ' + c.name).join(', ')
            : 'as recorded'
        }}</span>
      </div>
    </div>
    <div class="min-w-0">
      <Tabs query="side" :names="['Form', 'Findings' + (about.length ? ' ' + about.length : ''), 'Changes']">
        <template #0><Form v-model="text" :findings="about" /></template>
        <template #1>
          <div class="panel max-h-[calc(100vh-220px)] overflow-auto">
            <Findings v-if="about.length" :findings="about" :go="go" />
            <p v-else class="px-3 py-2">
              <Mark v-if="live" kind="good" word="no problems found" />
              <Mark v-else kind="busy" word="checking" />
            </p>
          </div>
        </template>
        <template #2><Preview v-if="live" :of="live" /></template>
      </Tabs>
    </div>
  </div>
</template>
