<script setup lang="ts">
// What others recorded of the very objects that are being written here, side by side, and what
// shall be said of each. It looks by itself, and is nothing while nobody came between.
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'
import { get, post, type Choice, type Crossed, type Page, type Revision } from '../api'
import { written } from '../format'
import Mark from './Mark.vue'
import Moment from './Moment.vue'
import Trouble from './Trouble.vue'

type Text = { name: string; text: string }
const props = defineProps<{ documents: Text[]; files?: Record<string, string>; since: string }>()
// settled: the documents as they were chosen to be, over the description of that tag
const emit = defineEmits<{ settled: [documents: Text[], etag: string]; crossed: [] }>()

const newest = useQuery({
  queryKey: ['newest-revision'],
  queryFn: () => get<Page<Revision>>('/revisions?limit=1'),
})
const began = computed(() => Number(props.since.replaceAll('"', '')))
const meanwhile = computed(() => !!props.since && (newest.data.value?.items[0]?.id ?? 0) > began.value)
const crossed = ref<Crossed | null>(null)
const chosen = ref<Record<string, Choice>>({})
const error = ref<unknown>(null)
const asked = () => ({ documents: props.documents, files: props.files ?? {}, since: began.value })

let turn = 0
async function look() {
  const mine = ++turn
  if (!meanwhile.value) return void (crossed.value = null)
  try {
    const c = await post<Crossed>('/definitions/crossings', asked())
    if (mine !== turn) return
    error.value = null
    if (c.objects.length) {
      if (c.etag !== crossed.value?.etag) emit('crossed') // what recording changes is something else now
      crossed.value = c
    } else {
      crossed.value = null
      emit('settled', props.documents, c.etag) // others changed other things
    }
  } catch (e) {
    if (mine === turn) error.value = e
  }
}
let timer = 0
watch(
  [meanwhile, () => newest.data.value?.items[0]?.id, () => props.documents],
  () => {
    clearTimeout(timer)
    timer = window.setTimeout(look, 200)
  },
  { immediate: true, deep: true },
)
const id = (o: { kind: string; name: string }) => o.kind + ' ' + o.name
const all = computed(() => crossed.value?.objects.every((o) => chosen.value[id(o)]) ?? false)
async function goOn() {
  error.value = null
  try {
    const c = await post<Crossed>('/definitions/crossings', { ...asked(), choices: chosen.value })
    crossed.value = null
    chosen.value = {}
    emit('settled', c.documents, c.etag)
  } catch (e) {
    error.value = e
  }
}
type Line = { text: string; other: boolean } // other: not so on another side
const lines = (text: string, than: string[]): Line[] => {
  const known = than.map((t) => new Set(t.split('\n').map((l) => l.trim())))
  return text
    .trimEnd()
    .split('\n')
    .map((l) => ({ text: l, other: known.some((k) => !k.has(l.trim())) }))
}
const sides = (o: Crossed['objects'][number]) => [
  { what: 'When you started', lines: lines(o.base || 'Not defined.', [o.theirs, o.mine]) },
  { what: 'Recorded now', lines: lines(o.theirs || 'Removed.', [o.base]) },
  { what: 'Your version', lines: lines(o.mine, [o.base]) },
]
// Each side begins where it differs first.
const vShown = {
  mounted(pane: HTMLElement) {
    const first = pane.querySelector<HTMLElement>('mark')
    if (first) pane.scrollTop = first.offsetTop - pane.offsetTop - 40
  },
}
const ways: { value: Choice; word: string }[] = [
  { value: 'theirs', word: 'Use theirs' },
  { value: 'merged', word: 'Merge' },
  { value: 'mine', word: 'Use mine' },
]
</script>
<template>
  <Trouble :error="error" class="mb-3" />
  <section v-if="crossed" class="panel mb-4" role="alert" aria-label="Changed by someone else">
    <div class="border-b border-line px-3 py-2">
      <Mark kind="warning" word="changed by someone else" />
      <span v-for="r in crossed.revisions" :key="r.id" class="ml-2">
        by <b class="font-semibold">{{ r.by }}</b>, <Moment :at="r.at" />: {{ r.summary }} (revision
        {{ r.id }})
      </span>
    </div>
    <div v-for="o in crossed.objects" :key="id(o)" class="border-b border-line/60 px-3 py-2">
      <h3 class="mb-1.5 font-semibold">{{ o.kind }} {{ o.name }}</h3>
      <div class="grid grid-cols-3 gap-3">
        <figure v-for="side in sides(o)" :key="side.what" class="min-w-0">
          <figcaption class="mb-1 text-slate">{{ side.what }}</figcaption>
          <div
            v-shown
            class="mono max-h-52 overflow-auto rounded-md border border-line p-2 leading-5 whitespace-pre"
            tabindex="0"
            role="region"
            :aria-label="side.what + ': ' + id(o)"
          >
            <div v-for="(l, n) in side.lines" :key="n">
              <mark v-if="l.other" class="bg-lantern-soft text-ink" v-text="'› ' + l.text" />
              <span v-else v-text="'  ' + l.text" />
            </div>
          </div>
        </figure>
      </div>
      <p v-if="o.both.length" class="mt-1.5">
        Both changed
        <template v-for="(f, i) in o.both" :key="f.path"
          ><template v-if="i">; </template><code>{{ f.path || 'all of it' }}</code> (<template
            v-if="f.gone || f.came"
            ><template v-if="f.gone"
              >theirs alone <code>{{ f.gone.join(', ') }}</code></template
            ><template v-if="f.gone && f.came">, </template
            ><template v-if="f.came"
              >yours alone <code>{{ f.came.join(', ') }}</code></template
            ></template
          ><template v-else-if="f.order"
            >in your order <code>{{ f.order.join(', ') }}</code></template
          ><template v-else
            >theirs <code>{{ written(f.old) }}</code>, yours <code>{{ written(f.new) }}</code></template
          >)</template
        >. Merge uses your version of these.
      </p>
      <p v-else class="mt-1.5 text-slate">You changed different fields.</p>
      <div class="mt-2 flex gap-2" role="radiogroup" :aria-label="'Resolve ' + id(o)">
        <button
          v-for="w in ways"
          :key="w.value"
          class="btn"
          :class="chosen[id(o)] === w.value ? '!bg-tide-soft !text-tide' : ''"
          role="radio"
          :aria-checked="chosen[id(o)] === w.value"
          @click="chosen[id(o)] = w.value"
        >
          {{ w.word }}
        </button>
      </div>
    </div>
    <div class="flex items-center gap-3 px-3 py-2">
      <button class="btn btn-go" :disabled="!all" @click="goOn">Continue</button>
      <span class="text-slate">This changes your draft. It records nothing.</span>
    </div>
  </section>
</template>
