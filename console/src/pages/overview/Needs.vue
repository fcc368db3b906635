<script setup lang="ts">
// What needs somebody. What is alike, four or more of one code, cause and kind of object, is one line
// that opens.
import { computed, ref } from 'vue'
import type { Finding } from '../../api'
import Findings from '../../parts/Findings.vue'
import Act from '../../parts/Act.vue'
import Aside from '../../parts/Aside.vue'
import { count } from '../../format'
import Mark from '../../parts/Mark.vue'
const props = defineProps<{ findings: Finding[] }>()
const setting = ref<Finding[] | null>(null)
const alike = 4
interface Line {
  key: string
  all: Finding[]
}
const kind = (f: Finding) => (f.object ?? '').split(' ')[0]
const like = (f: Finding) => [f.severity, f.code, f.cause ?? '', kind(f)].join(' ')
const lines = computed(() => {
  const out: Line[] = []
  const many = new Map<string, Line>()
  for (const f of props.findings) {
    const key = like(f)
    const n = props.findings.filter((x) => like(x) === key).length
    if (n < alike) {
      out.push({ key: key + f.object + f.text, all: [f] })
      continue
    }
    if (!many.has(key)) {
      const line = { key, all: [] }
      many.set(key, line)
      out.push(line)
    }
    many.get(key)!.all.push(f)
  }
  return out
})
const open = ref(new Set<string>())
function turn(key: string) {
  if (!open.value.delete(key)) open.value.add(key)
}
const about = (all: Finding[]) => {
  const names = [...new Set(all.map((f) => (f.object ?? '').slice(kind(f).length + 1)))].filter(Boolean)
  const some =
    names.length > 3
      ? `${names.slice(0, 3).join(', ')} and ${count(names.length - 3, 'other')}`
      : names.join(', ')
  return `${kind(all[0])}${names.length > 1 ? 's' : ''} ${some}`
}
</script>
<template>
  <div class="divide-y divide-line/60">
    <template v-for="l in lines" :key="l.key">
      <Findings v-if="l.all.length === 1" :findings="l.all" link aside @aside="setting = [$event]" />
      <div v-else>
        <button
          type="button"
          class="grid w-full grid-cols-[84px_1fr_auto] items-start gap-x-3 px-3 py-2 text-left"
          :aria-expanded="open.has(l.key)"
          @click="turn(l.key)"
        >
          <Mark :kind="l.all[0].severity" class="pt-px" />
          <span class="min-w-0 break-words"
            ><b class="font-semibold">{{ about(l.all) }}</b
            >: {{ l.all.length }} alike, such as: {{ l.all[0].text }}
            <code class="ml-1">{{ l.all[0].code }}</code></span
          >
          <span class="btn !h-6" aria-hidden="true">{{ open.has(l.key) ? 'Close' : 'Show all' }}</span>
        </button>
        <Findings
          v-if="open.has(l.key)"
          class="border-t border-line/60 bg-raised/40"
          :findings="l.all"
          link
          aside
          @aside="setting = [$event]"
        />
        <p v-if="open.has(l.key)" class="flex justify-end border-t border-line/60 px-3 py-2">
          <Act does="setAside" dense class="!h-6" @click="setting = l.all">Set all aside</Act>
        </p>
      </div>
    </template>
    <Aside v-if="setting" :of="setting" @close="setting = null" />
  </div>
</template>
