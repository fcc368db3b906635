<script setup lang="ts">
// The way from an empty service to a machine that installs: done steps with what came of them, the
// others with what they need. The first that is not done stands out.
import { computed } from 'vue'
import type { FirstStep } from '../../api'
import Mark from '../../parts/Mark.vue'
const props = defineProps<{ steps: FirstStep[] }>()
const next = computed(() => props.steps.find((s) => !s.done)?.step)
const done = computed(() => props.steps.filter((s) => s.done).length)
</script>
<template>
  <section>
    <div class="mb-1.5 flex items-center gap-3">
      <h2>Set up the first machine</h2>
      <span class="text-slate">{{ done }} of {{ steps.length }} steps done</span>
    </div>
    <ol class="panel divide-y divide-line/60">
      <li
        v-for="(s, i) in steps"
        :key="s.step"
        class="grid grid-cols-[20px_170px_minmax(0,1fr)_auto] items-center gap-x-3 px-3 py-1.5"
        :aria-current="s.step === next ? 'step' : undefined"
      >
        <span class="text-right text-slate">{{ i + 1 }}</span>
        <span :class="s.step === next ? 'font-semibold' : ''">{{ s.title }}</span>
        <span class="flex min-w-0 items-baseline gap-2">
          <Mark v-if="s.done" kind="good" word="done" />
          <span class="min-w-0" :class="s.done ? '' : 'text-slate'">{{ s.text }}</span>
        </span>
        <RouterLink v-if="s.step === next" class="btn btn-go !h-6" :to="s.to">Continue</RouterLink>
        <RouterLink v-else class="btn !h-6" :to="s.to">Open</RouterLink>
      </li>
    </ol>
  </section>
</template>
