<script setup lang="ts">
// Variables and what they stand for.
import { computed, ref } from 'vue'
import { useForm } from './context'
import type { Path } from './document'

const props = defineProps<{ id: string; path: Path }>()
const form = useForm()
const name = ref('')
const all = computed(() => Object.entries((form.value(props.path) ?? {}) as Record<string, unknown>))
function more() {
  if (name.value.trim()) form.put([...props.path, name.value.trim()], 'value')
  name.value = ''
}
function drop(n: string) {
  form.put(all.value.length > 1 ? [...props.path, n] : props.path, undefined)
}
</script>
<template>
  <div class="space-y-1">
    <div v-for="[n, v] in all" :key="n" class="flex items-center gap-2">
      <code class="w-24 truncate">{{ n }}</code>
      <input
        class="field mono"
        :value="String(v ?? '')"
        :aria-label="n"
        @input="form.put([...path, n], ($event.target as HTMLInputElement).value)"
      />
      <button type="button" class="btn" :aria-label="'Take ' + n + ' out'" @click="drop(n)">×</button>
    </div>
    <div class="flex gap-2">
      <input
        :id="id"
        v-model="name"
        class="field mono"
        placeholder="a variable"
        @keydown.enter.prevent="more"
      />
      <button type="button" class="btn !h-[30px]" :disabled="!name.trim()" @click="more">Add</button>
    </div>
  </div>
</template>
