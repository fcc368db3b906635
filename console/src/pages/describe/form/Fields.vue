<script setup lang="ts">
// The fields of one thing: those that are asked first, those that say something or of which
// something is told, and the others behind a button.
import { computed, ref } from 'vue'
import { useForm } from './context'
import Field from './Field.vue'
import type { Path } from './document'
import { inside, words, type Schema } from './schema'

const props = defineProps<{ schema: Schema; path: Path; first?: string[] }>()
const form = useForm()
const more = ref(false)
const all = computed(() => Object.keys(props.schema.properties ?? {}))
const first = computed(() => (props.first ?? inside).filter((n) => all.value.includes(n)))
const shown = computed(() => {
  const said = form.value(props.path)
  const has = (n: string) =>
    (typeof said === 'object' && said !== null && n in said) || form.findings([...props.path, n], true).length
  const rest = all.value.filter((n) => !first.value.includes(n) && (more.value || has(n)))
  return [...first.value, ...rest]
})
const hidden = computed(() => all.value.length - shown.value.length)
</script>
<template>
  <Field
    v-for="n in shown"
    :key="n"
    :schema="schema.properties![n]"
    :path="[...path, n]"
    :label="words(n)"
    :need="schema.required?.includes(n)"
  />
  <button v-if="hidden" type="button" class="btn mt-1 mb-1.5 !h-6" @click="more = true">
    {{ hidden === 1 ? '1 more field' : hidden + ' more fields' }}
  </button>
</template>
