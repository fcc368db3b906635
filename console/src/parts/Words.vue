<script setup lang="ts">
// The words of Stockade's own that the page above has, each with its explanation.
import { onMounted, onUnmounted, ref } from 'vue'
import { wordsOf, type Word } from '../terms'
import Term from './Term.vue'

const props = defineProps<{ page: () => HTMLElement | null }>()
const there = ref<Word[]>([])
let waits = 0
let watching: MutationObserver | undefined
function look() {
  waits = 0
  there.value = wordsOf((props.page()?.innerText ?? '').slice(0, 100_000))
}
onMounted(() => {
  const page = props.page()
  if (!page) return
  watching = new MutationObserver(() => (waits ||= window.setTimeout(look, 400)))
  watching.observe(page, { childList: true, subtree: true, characterData: true })
  look()
})
onUnmounted(() => {
  watching?.disconnect()
  window.clearTimeout(waits)
})
</script>
<template>
  <p v-if="there.length" class="mt-8 flex flex-wrap gap-x-3 text-slate">
    <span>Words on this page:</span>
    <Term v-for="w in there" :key="w.id" :of="w.id" :word="w.word" plain />
  </p>
</template>
