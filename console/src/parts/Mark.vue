<script setup lang="ts">
// A state, told by an icon, a word and a colour.
import {
  ArrowPathIcon,
  CheckCircleIcon,
  ExclamationTriangleIcon,
  InformationCircleIcon,
  MinusCircleIcon,
  XCircleIcon,
} from '@heroicons/vue/16/solid'
import { computed } from 'vue'
const props = defineProps<{ kind: 'good' | 'warning' | 'error' | 'note' | 'none' | 'busy'; word?: string }>()
const look = computed(
  () =>
    (
      ({
        good: [CheckCircleIcon, 'text-moss'],
        warning: [ExclamationTriangleIcon, 'text-lantern'],
        error: [XCircleIcon, 'text-flare'],
        note: [InformationCircleIcon, 'text-slate'],
        none: [MinusCircleIcon, 'text-slate'],
        busy: [ArrowPathIcon, 'text-tide'],
      }) as const
    )[props.kind],
)
</script>
<template>
  <span class="inline-flex items-baseline gap-1 leading-[18px] whitespace-nowrap" :class="look[1]"
    ><component
      :is="look[0]"
      class="size-4 shrink-0 self-center"
      :class="kind === 'busy' ? 'animate-spin' : ''"
      aria-hidden="true"
    /><span>{{ word ?? kind }}</span></span
  >
</template>
