<script setup lang="ts">
// Documents, or a machine's own files, become what is described: checked as they are
// typed, previewed by object, recorded as one revision.
import { useQueryClient } from '@tanstack/vue-query'
import { computed, onMounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { getTagged, post, postOver, type Finding, type Imported, type Judgement } from '../../api'
import { count } from '../../format'
import Findings from '../../parts/Findings.vue'
import Lines from '../../parts/Lines.vue'
import Moment from '../../parts/Moment.vue'
import Mark from '../../parts/Mark.vue'
import Tabs from '../../parts/Tabs.vue'
import Trouble from '../../parts/Trouble.vue'
import Writers from '../../parts/Writers.vue'
import {
  base64,
  begin,
  crossed,
  draft,
  dropped,
  keepMine,
  keptAt,
  load,
  take as takeKept,
  unkept,
} from './draft'
import { isKind, type Kind } from './form/document'
import Form from './form/Form.vue'
import { useJudged } from './judged'
import Preview from './Preview.vue'
import Act from '../../parts/Act.vue'

const client = useQueryClient()
const route = useRoute()
const router = useRouter()
const imported = ref<Finding[]>([]) // what was told of a machine's files
const done = ref<Judgement | null>(null)
const error = ref<unknown>(null)
const busy = ref(false)
const over = ref(false) // something is held above the page
const summary = ref('')
const line = ref<number>()
const seen = computed(() => draft.since)
const now = async () => (draft.since = (await getTagged<{ text: string }>('/definitions')).etag)
const fresh = ref<Kind>() // what another page asked to begin
onMounted(async () => {
  try {
    await load()
    // What was begun before goes on over what was recorded then.
    if (!draft.since || !draft.documents.some((d) => d.text.trim())) await now()
    const { edit, new: kind, ...rest } = route.query
    if (isKind(kind)) fresh.value = kind
    if (typeof edit === 'string') await lay(edit)
    if (kind || edit) router.replace({ query: rest })
  } catch (e) {
    error.value = e
  }
})
/** Takes something that is recorded into the draft, beside what is in it already. */
async function lay(object: string) {
  const name = object.replace('/', '-') + '.yaml'
  const had = draft.documents.findIndex((d) => d.name === name)
  if (had >= 0) return void (draft.open = had)
  const { text } = await getTagged<{ text: string }>('/definitions/' + object)
  const empty = draft.documents.findIndex((d) => !d.text.trim())
  if (empty >= 0) draft.documents.splice(empty, 1)
  draft.documents.push({ name, text })
  draft.open = draft.documents.length - 1
}
async function keep(path: string, file: File) {
  try {
    draft.files[path] = await base64(file)
  } catch (e) {
    error.value = e
  }
}

const asked = computed(() => ({
  documents: draft.documents.filter((d) => d.text.trim()),
  files: draft.files,
}))
const { live, error: unjudged, check } = useJudged(() => asked.value)
watch(unjudged, (e) => (error.value = e))
const doc = computed(() => draft.documents[draft.open] ?? draft.documents[0])
const here = computed(() => (live.value?.findings ?? []).filter((f) => f.place?.file === doc.value.name))
// What is told of what these documents say: of the rest, the Overview tells.
const about = computed(() =>
  (live.value?.findings ?? []).filter((f) => draft.documents.some((d) => d.name === f.place?.file)),
)
const blocking = computed(() => about.value.filter((f) => f.severity === 'error').length)

async function take(files: Record<string, File>) {
  error.value = null
  busy.value = true
  try {
    const names = Object.keys(files).sort()
    const documents = names.filter((n) => /\.ya?ml$/.test(n))
    const read: Record<string, string> = {}
    for (const n of names.filter((n) => !documents.includes(n))) read[n] = await base64(files[n])
    if (documents.length) {
      const texts = []
      for (const n of documents) texts.push({ name: n, text: await files[n].text() })
      imported.value = []
      begin({ documents: texts, files: read, from: names.length + ' files' })
      await now()
    } else if (names.length) {
      const i = await post<Imported>('/definitions/import', { files: read })
      imported.value = i.findings
      begin({
        documents: [{ name: 'imported.yaml', text: i.document }],
        files: i.files,
        from: `files of a machine, with ${i.sources.length} sources`,
      })
      await now()
    }
  } catch (e) {
    error.value = e
  } finally {
    busy.value = false
  }
}
async function drop(e: DragEvent) {
  over.value = false
  if (e.dataTransfer) await take(await dropped(e.dataTransfer.items))
}
async function chosen(e: Event) {
  const input = e.target as HTMLInputElement
  const files: Record<string, File> = {}
  for (const f of input.files ?? []) files[f.webkitRelativePath || f.name] = f
  await take(files)
  input.value = ''
}
async function record() {
  busy.value = true
  error.value = null
  try {
    done.value = await postOver<Judgement>(
      '/definitions/record',
      { ...asked.value, summary: summary.value },
      seen.value,
    )
    begin()
    imported.value = []
    summary.value = ''
    client.invalidateQueries()
    await now()
  } catch (e) {
    error.value = e
  } finally {
    busy.value = false
  }
}
function settled(documents: { name: string; text: string }[], etag: string) {
  for (const d of documents) {
    const typed = draft.documents.find((x) => x.name === d.name)
    if (typed && typed.text !== d.text) typed.text = d.text
  }
  draft.since = etag
  error.value = null
  check()
}
function go(f: Finding) {
  const n = draft.documents.findIndex((d) => d.name === f.place?.file)
  if (n < 0) return
  draft.open = n
  line.value = undefined
  requestAnimationFrame(() => (line.value = f.place?.line))
}
function anew() {
  begin()
  now().catch((e) => (error.value = e))
  imported.value = []
  done.value = null
}
</script>
<template>
  <div
    class="relative flex min-h-full flex-col"
    @dragover.prevent="over = true"
    @dragleave.self="over = false"
    @drop.prevent="drop"
  >
    <div class="mb-1 flex items-center gap-2">
      <h1 class="mr-auto">Definitions</h1>
      <label class="btn cursor-pointer">
        Choose files<input type="file" multiple class="sr-only" aria-label="Files" @change="chosen" />
      </label>
      <label class="btn cursor-pointer">
        Choose a folder<input
          type="file"
          webkitdirectory
          class="sr-only"
          aria-label="Folder"
          @change="chosen"
        />
      </label>
      <button class="btn" :disabled="!asked.documents.length" @click="anew">Start over</button>
    </div>
    <p class="mb-3 text-slate">
      Write or paste a definition, or drop files here: definitions with their keys, or files of a machine:
      <span class="mono">sources.list</span>, <span class="mono">*.sources</span>,
      <span class="mono">*.repo</span>, <span class="mono">pacman.conf</span>, or an archive of its
      <span class="mono">/etc</span>.
      <template v-if="draft.from">Read from {{ draft.from }}.</template>
    </p>
    <Trouble :error="error" class="mb-3" />
    <div v-if="crossed" class="panel mb-3 flex items-center gap-3 px-3 py-2" role="alert">
      <Mark kind="warning" word="changed in another window" />
      <span class="text-slate">Your account has another draft there. Choose one:</span>
      <button class="btn ml-auto !h-6" @click="takeKept()">Use the other</button>
      <button class="btn !h-6" @click="keepMine()">Keep this one</button>
    </div>
    <Writers
      v-if="asked.documents.length"
      :documents="asked.documents"
      :files="asked.files"
      :since="seen"
      @settled="settled"
      @crossed="check"
    />
    <div v-if="done" class="panel mb-3 flex items-center gap-3 px-3 py-2" role="status">
      <Mark kind="good" :word="'Recorded as revision ' + done.revision" />
      <span class="text-slate">{{ done.changes.map((c) => c.kind + ' ' + c.name).join(', ') }}</span>
      <RouterLink to="/sources" class="btn ml-auto !h-6">Sources</RouterLink>
      <RouterLink v-if="done.changes.some((c) => c.kind === 'key')" to="/keys?decide=1" class="btn !h-6"
        >Decide about keys</RouterLink
      >
      <RouterLink v-if="done.changes.some((c) => c.kind === 'credential')" to="/credentials" class="btn !h-6"
        >Save secrets</RouterLink
      >
    </div>
    <div class="grid min-h-0 flex-1 grid-cols-[minmax(0,1fr)_minmax(0,1fr)] gap-5">
      <div class="flex flex-col">
        <div v-if="draft.documents.length > 1" class="mb-1.5 flex flex-wrap gap-1">
          <button
            v-for="(d, i) in draft.documents"
            :key="d.name"
            class="btn !h-6"
            :class="i === draft.open ? '!bg-tide-soft !text-tide' : ''"
            @click="draft.open = i"
          >
            {{ d.name }}
          </button>
        </div>
        <div class="h-[calc(100vh-250px)] min-h-64">
          <Lines v-model="doc.text" :findings="here" label="Definition" :at="line" />
        </div>
        <form class="mt-2 flex items-center gap-2" @submit.prevent="record">
          <input
            v-model="summary"
            class="field"
            placeholder="Summary of the change"
            aria-label="Summary of the change"
          />
          <Act does="record" class="btn-go" :disabled="busy || !live?.recordable"> Record </Act>
        </form>
        <p v-if="live" class="mt-1.5">
          <Mark v-if="blocking" kind="error" word="Errors: cannot be recorded" />
          <Mark v-else-if="live.recordable" kind="good" word="Ready to record" />
          <span v-else class="text-slate">No changes.</span>
          <span v-if="unkept" class="text-slate"
            >· draft not saved by the service; it is only in this window</span
          >
          <span v-else-if="keptAt && asked.documents.length" class="text-slate">
            · kept for you <Moment :at="keptAt"
          /></span>
          <span v-if="about.length" class="text-slate">
            · {{ count(about.length, 'finding') }}: at the field, at the line, and in full under Findings
          </span>
        </p>
      </div>
      <div class="min-w-0">
        <Tabs
          :names="[
            'Form',
            'Findings' + (about.length ? ' ' + about.length : ''),
            'Changes' + (live?.changes.length ? ' ' + live.changes.length : ''),
            ...(imported.length ? ['Imported files ' + imported.length] : []),
          ]"
        >
          <template #0>
            <Form
              v-model="doc.text"
              :findings="here"
              :fresh="fresh"
              @file="keep"
              @begun="fresh = undefined"
            />
          </template>
          <template #1>
            <p v-if="!asked.documents.length" class="panel px-3 py-2 text-slate">
              No text yet. A definition begins with <code>stockade: 1</code>.
            </p>
            <p v-else-if="!live" class="panel px-3 py-2"><Mark kind="busy" word="checking" /></p>
            <div v-else class="panel max-h-[calc(100vh-190px)] overflow-auto">
              <p v-if="!about.length" class="px-3 py-2">
                <Mark kind="good" word="no problems found" />
                <span class="ml-2 text-slate">Upstreams were not contacted.</span>
              </p>
              <p v-else class="border-b border-line px-3 py-2 text-slate">
                {{ blocking ? 'Correct the errors before recording.' : 'It can be recorded.' }}
              </p>
              <Findings :findings="about" :go="go" />
            </div>
          </template>
          <template #2><Preview v-if="live" :of="live" /></template>
          <template #3>
            <div class="panel max-h-[calc(100vh-190px)] overflow-auto"><Findings :findings="imported" /></div>
          </template>
        </Tabs>
      </div>
    </div>
    <div v-if="over" class="drop-here">Drop definitions, or files of a machine</div>
  </div>
</template>

<style scoped>
.drop-here {
  position: absolute;
  inset: 0;
  display: flex;
  align-items: center;
  justify-content: center;
  pointer-events: none;
  border: 2px dashed var(--tide);
  border-radius: 8px;
  background: color-mix(in srgb, var(--tide-soft) 80%, transparent);
  color: var(--tide);
  font-size: 15px;
  font-weight: 640;
}
</style>
