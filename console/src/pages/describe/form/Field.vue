<script setup lang="ts">
// One field, as the schema has it: a text, a number, a choice, a list, or fields within it.
import { computed } from 'vue'
import Mark from '../../../parts/Mark.vue'
import { idOf, useForm } from './context'
import Each from './Each.vue'
import type { Path } from './document'
import Fields from './Fields.vue'
import type { Schema } from './schema'
import Values from './Values.vue'
import Words from './Words.vue'

const props = defineProps<{ schema: Schema; path: Path; label: string; need?: boolean; bare?: boolean }>()
const form = useForm()
const id = computed(() => idOf(props.path))
const value = computed(() => form.value(props.path))
const kind = computed(() => {
  const s = props.schema
  if (s.oneOf?.some((o) => o.const)) return 'either'
  if (s.enum || s['x-names'] === 'family') return 'choice'
  if (s.type === 'array') return s.items?.type === 'string' ? 'words' : 'each'
  if (s.type === 'object') return s.properties ? 'fields' : 'values'
  return s.type ?? 'string'
})
/** What stands there in one word, where a word or a group of fields can stand. */
const word = computed(() => props.schema.oneOf?.find((o) => o.const)?.const ?? '')
const group = computed(() => props.schema.oneOf?.find((o) => o.properties) ?? props.schema)
const filled = computed(() => typeof value.value === 'object' && value.value !== null)
// What is told of fields that are drawn below stands with them.
const told = computed(() =>
  form.findings(props.path, !['fields', 'either', 'each'].includes(kind.value) || !filled.value),
)
const blocked = computed(() => told.value.some((f) => f.severity === 'error'))
const text = computed(() => (value.value === undefined || value.value === null ? '' : String(value.value)))
/** What has fields below it takes the whole width. */
const wide = computed(
  () => kind.value === 'each' || ((kind.value === 'fields' || kind.value === 'either') && filled.value),
)
const choices = computed(() => props.schema.enum ?? form.names('family'))
const isFile = computed(() => props.path.at(-1) === 'file')

function typed(raw: string) {
  const trimmed = raw.trim()
  if (kind.value === 'integer' && /^-?\d+$/.test(trimmed)) form.put(props.path, Number(trimmed))
  else if (trimmed !== '') form.put(props.path, raw)
  else form.put(props.path, typeof props.path.at(-1) === 'number' ? '' : undefined)
}
function either(chosen: string) {
  if (chosen === '') form.put(props.path, undefined)
  else form.put(props.path, chosen === 'some' ? (filled.value ? value.value : {}) : chosen)
}
function picked(e: Event) {
  const input = e.target as HTMLInputElement
  if (input.files?.[0]) form.file(props.path, input.files[0])
  input.value = ''
}
</script>
<template>
  <div
    class="gap-x-3 py-1"
    :class="
      wide
        ? 'border-t border-line/60 first:border-0'
        : 'grid grid-cols-[112px_minmax(0,1fr)] max-[1199px]:block'
    "
  >
    <label :for="id" class="block pt-1.5 first-letter:uppercase" :class="wide ? 'font-medium' : 'text-slate'">
      {{ label }}<span v-if="need" class="block text-[11px] leading-3 text-slate">required</span>
    </label>
    <p v-if="wide" class="mb-1 text-[12px] leading-4 text-slate">{{ schema.description }}</p>
    <div class="min-w-0">
      <select
        v-if="kind === 'choice'"
        :id="id"
        class="field"
        :value="text"
        :aria-invalid="blocked"
        :aria-describedby="id + '-told'"
        @change="typed(($event.target as HTMLSelectElement).value)"
      >
        <option value="">not set</option>
        <option v-for="o in choices" :key="o">{{ o }}</option>
        <option v-if="text && !choices.includes(text)">{{ text }}</option>
      </select>
      <label v-else-if="kind === 'boolean'" class="flex h-[30px] items-center gap-2">
        <input
          :id="id"
          type="checkbox"
          :checked="value === true"
          @change="form.put(path, ($event.target as HTMLInputElement).checked || undefined)"
        />
        yes
      </label>
      <Words v-else-if="kind === 'words'" :id="id" :path="path" :of="schema.items?.['x-names']" />
      <Values v-else-if="kind === 'values'" :id="id" :path="path" :schema="schema" :label="label" />
      <Each v-else-if="kind === 'each'" :path="path" :schema="schema.items!" :label="label" />
      <template v-else-if="kind === 'either' || kind === 'fields'">
        <select
          :id="id"
          class="field"
          :value="filled ? 'some' : text"
          @change="either(($event.target as HTMLSelectElement).value)"
        >
          <option value="">not set</option>
          <option v-if="word" :value="word">{{ word }}</option>
          <option value="some">{{ word ? 'selection' : 'set below' }}</option>
        </select>
        <div v-if="filled" class="mt-1 border-l-2 border-line pl-3">
          <Fields :schema="group" :path="path" />
        </div>
      </template>
      <div v-else class="flex gap-2">
        <input
          :id="id"
          class="field"
          :class="path.at(-1) === 'url' || path.at(-1) === 'fingerprint' ? 'mono' : ''"
          :inputmode="kind === 'integer' ? 'numeric' : undefined"
          :list="schema['x-names'] ? id + '-known' : undefined"
          :value="text"
          :aria-invalid="blocked"
          :aria-describedby="id + '-told'"
          autocomplete="off"
          spellcheck="false"
          @input="typed(($event.target as HTMLInputElement).value)"
        />
        <label v-if="isFile" class="btn !h-[30px] cursor-pointer">
          Choose<input type="file" class="sr-only" :aria-label="'The file of ' + label" @change="picked" />
        </label>
      </div>
      <datalist v-if="schema['x-names']" :id="id + '-known'">
        <option v-for="n in form.names(schema['x-names'])" :key="n" :value="n" />
      </datalist>
      <div :id="id + '-told'">
        <p v-for="f in told" :key="f.code + f.text" class="mt-0.5 break-words">
          <Mark :kind="f.severity" /> {{ f.text }}
          <span v-if="f.way_out" class="text-slate">Fix: {{ f.way_out }}</span>
        </p>
      </div>
      <p v-if="!wide && !bare" class="mt-0.5 text-[12px] leading-4 text-slate">{{ schema.description }}</p>
    </div>
  </div>
</template>
