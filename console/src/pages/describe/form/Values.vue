<script setup lang="ts">
// Names of one's own and what they stand for: a text, or a list of words.
import { computed, ref } from 'vue'
import { useForm } from './context'
import type { Path } from './document'
import type { Schema } from './schema'
import Words from './Words.vue'

const props = defineProps<{ id: string; path: Path; schema: Schema; label: string }>()
/** What one of them is, where it is a list. */
const list = computed(() => {
  const each = props.schema.additionalProperties
  return typeof each === 'object' && each.type === 'array' ? each : undefined
})
const one = computed(() => (list.value ? props.label.replace(/s$/, '') : 'variable'))
const form = useForm()
const name = ref('')
const all = computed(() => Object.entries((form.value(props.path) ?? {}) as Record<string, unknown>))
function more() {
  if (name.value.trim()) form.put([...props.path, name.value.trim()], list.value ? [] : 'value')
  name.value = ''
}
function drop(n: string) {
  form.put(all.value.length > 1 ? [...props.path, n] : props.path, undefined)
}
</script>
<template>
  <div class="space-y-1">
    <div v-for="[n, v] in all" :key="n" class="flex items-center gap-2">
      <code class="w-24 break-words">{{ n }}</code>
      <Words
        v-if="list"
        :id="id + '-' + n"
        class="min-w-0 flex-1"
        :path="[...path, n]"
        :of="list.items?.['x-names']"
      />
      <input
        v-else
        class="field mono"
        :value="String(v ?? '')"
        :aria-label="n"
        @input="form.put([...path, n], ($event.target as HTMLInputElement).value)"
      />
      <button type="button" class="btn" :aria-label="'Remove ' + n" @click="drop(n)">×</button>
    </div>
    <div class="flex gap-2">
      <input
        :id="id"
        v-model="name"
        class="field mono"
        :placeholder="'a ' + one"
        @keydown.enter.prevent="more"
      />
      <button type="button" class="btn !h-[30px]" :disabled="!name.trim()" @click="more">Add</button>
    </div>
  </div>
</template>
