<script setup lang="ts">
// A list of words: each can be taken away, and the box at the end takes one more.
import { computed, ref } from 'vue'
import { useForm } from './context'
import type { Path } from './document'

const props = defineProps<{ id: string; path: Path; of?: string }>()
const form = useForm()
const box = ref('')
const all = computed(() => {
  const v = form.value(props.path)
  return Array.isArray(v) ? v.map(String) : v === undefined || v === null ? [] : [String(v)]
})
const known = computed(() => (props.of ? form.names(props.of).filter((n) => !all.value.includes(n)) : []))
const bad = (i: number) => form.findings([...props.path, i], true).some((f) => f.severity === 'error')

function take(words: string[]) {
  const more = words.map((w) => w.trim()).filter((w) => w && !all.value.includes(w))
  if (more.length) form.put(props.path, [...all.value, ...more])
  box.value = ''
}
/** A comma, and leaving the box, end a word as Enter does. */
function typed() {
  if (/[,\n]/.test(box.value)) take(box.value.split(/[,\n]/))
  else if (known.value.includes(box.value)) take([box.value])
}
function drop(i: number) {
  const left = all.value.filter((_, n) => n !== i)
  form.put(props.path, left.length ? left : undefined)
}
function back() {
  if (!box.value && all.value.length) drop(all.value.length - 1)
}
</script>
<template>
  <div class="field flex !h-auto min-h-[30px] flex-wrap items-center gap-1 !px-1 py-0.5">
    <span
      v-for="(w, i) in all"
      :key="w"
      class="mono flex max-w-full items-center rounded bg-raised pl-1.5"
      :class="bad(i) ? '!bg-flare-soft text-flare' : ''"
    >
      <span class="truncate">{{ w }}</span>
      <button type="button" class="px-1.5" :aria-label="'Remove ' + w" @click="drop(i)">×</button>
    </span>
    <input
      :id="id"
      v-model="box"
      class="mono h-6 min-w-24 flex-1 bg-transparent px-1.5 outline-none"
      :list="of ? id + '-known' : undefined"
      :placeholder="all.length ? '' : 'type one, then press Enter'"
      :aria-describedby="id + '-told'"
      autocomplete="off"
      spellcheck="false"
      @input="typed"
      @keydown.enter.prevent="take([box])"
      @keydown.delete="back"
      @blur="take([box])"
    />
    <datalist v-if="of" :id="id + '-known'">
      <option v-for="n in known" :key="n" :value="n" />
    </datalist>
  </div>
</template>
