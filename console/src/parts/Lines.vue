<script setup lang="ts">
// A text with numbered lines, and a mark at each line of which something is told.
import { computed, ref, watch } from 'vue'
import type { Finding } from '../api'

const text = defineModel<string>({ required: true })
const props = defineProps<{ findings: Finding[]; label: string; at?: number }>()
const box = ref<HTMLTextAreaElement | null>(null)
const gutter = ref<HTMLElement | null>(null)
const rank = ['error', 'warning', 'note']
const lines = computed(() => {
  const worst: Record<number, string> = {}
  for (const f of props.findings) {
    const n = f.place?.line ?? 0
    if (n && (!worst[n] || rank.indexOf(f.severity) < rank.indexOf(worst[n]))) worst[n] = f.severity
  }
  return text.value.split('\n').map((_, i) => worst[i + 1] ?? '')
})
const colours: Record<string, string> = {
  error: 'bg-flare-soft text-flare font-semibold',
  warning: 'bg-lantern-soft text-lantern font-semibold',
  note: 'text-ink font-semibold',
}
function scrolled() {
  if (gutter.value && box.value) gutter.value.scrollTop = box.value.scrollTop
}
// A line that somebody wants to see is selected, and comes into view.
watch(
  () => props.at,
  (n) => {
    if (!n || !box.value) return
    const all = text.value.split('\n')
    const from = all.slice(0, n - 1).join('\n').length + (n > 1 ? 1 : 0)
    box.value.focus()
    box.value.setSelectionRange(from, from + (all[n - 1]?.length ?? 0))
    box.value.scrollTop = Math.max(0, (n - 6) * 20)
  },
)
</script>
<template>
  <div class="panel flex h-full overflow-hidden">
    <div
      ref="gutter"
      class="mono shrink-0 overflow-hidden border-r border-line bg-raised py-1.5 text-right text-slate select-none"
      aria-hidden="true"
    >
      <div v-for="(w, i) in lines" :key="i" class="h-5 px-2 leading-5" :class="colours[w]">{{ i + 1 }}</div>
    </div>
    <textarea
      ref="box"
      v-model="text"
      class="mono min-w-0 flex-1 resize-none bg-surface px-2 py-1.5 leading-5 outline-none"
      wrap="off"
      spellcheck="false"
      :aria-label="label"
      @scroll="scrolled"
    />
  </div>
</template>
