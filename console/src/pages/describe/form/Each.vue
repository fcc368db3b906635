<script setup lang="ts">
// A list of things with fields: upstreams, or the sources of a mirror. A thing of which one
// field alone is said can be written as that word; it stays one until it says more. Or a list of
// lists of words.
import { computed } from 'vue'
import { idOf, useForm } from './context'
import Field from './Field.vue'
import Fields from './Fields.vue'
import type { Path } from './document'
import { inside, words, type Schema } from './schema'
import Words from './Words.vue'

const props = defineProps<{ path: Path; schema: Schema; label: string }>()
const form = useForm()
const fields = computed(() => props.schema.oneOf?.find((o) => o.properties) ?? props.schema)
/** The field that a plain word stands for. */
const short = computed(() => (props.schema.oneOf ? fields.value.required?.[0] : undefined))
const all = computed(() => {
  const v = form.value(props.path)
  return Array.isArray(v) ? v : []
})
const one = computed(() => (lists.value ? 'set' : props.label.replace(/s$/, '')))
const lists = computed(() => props.schema.type === 'array')

function put(i: number, item: unknown) {
  form.put(
    props.path,
    all.value.map((x, n) => (n === i ? item : x)),
  )
}
function more() {
  if (lists.value) form.put(props.path, [...all.value, []])
  else if (short.value) form.put(props.path, [...all.value, ''])
  else
    form.put(props.path, [...all.value, { [inside.find((n) => n in (fields.value.properties ?? {}))!]: '' }])
}
function drop(i: number) {
  const left = all.value.filter((_, n) => n !== i)
  form.put(props.path, left.length ? left : undefined)
}
function up(i: number) {
  const next = [...all.value]
  next.splice(i - 1, 2, next[i], next[i - 1])
  form.put(props.path, next)
}
const isWord = (x: unknown) => typeof x !== 'object' || x === null
</script>
<template>
  <div class="space-y-1.5">
    <div v-for="(x, i) in all" :key="i" class="border-l-2 border-line pl-3">
      <div class="flex flex-wrap items-start justify-end gap-1.5">
        <div class="min-w-60 flex-1">
          <Words v-if="lists" :id="idOf([...path, i])" :path="[...path, i]" :of="schema.items?.['x-names']" />
          <Field
            v-else-if="short && isWord(x)"
            :schema="fields.properties![short]"
            :path="[...path, i]"
            :label="words(short)"
            need
            bare
          />
          <Fields v-else :schema="fields" :path="[...path, i]" />
        </div>
        <button
          v-if="short && isWord(x)"
          type="button"
          class="btn mt-1 !h-[30px]"
          :disabled="!x"
          @click="put(i, { [short]: x, want: {} })"
        >
          Details
        </button>
        <button
          v-if="all.length > 1"
          type="button"
          class="btn mt-1 !h-[30px]"
          :disabled="!i"
          :aria-label="'Move number ' + (i + 1) + ' up'"
          @click="up(i)"
        >
          ↑
        </button>
        <button
          type="button"
          class="btn mt-1 !h-[30px]"
          :aria-label="'Remove number ' + (i + 1)"
          @click="drop(i)"
        >
          ×
        </button>
      </div>
    </div>
    <button type="button" class="btn" @click="more">Add {{ label === 'from' ? 'a source' : one }}</button>
  </div>
</template>
