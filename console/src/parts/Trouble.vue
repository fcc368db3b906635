<script setup lang="ts">
import { XCircleIcon } from '@heroicons/vue/16/solid'
import { computed } from 'vue'
import { Trouble } from '../api'
import Findings from './Findings.vue'
const props = defineProps<{ error: unknown }>()
const p = computed(() => (props.error instanceof Trouble ? props.error.problem : null))
</script>
<template>
  <div v-if="error" role="alert" class="rounded-md border border-flare/40 bg-flare-soft">
    <div class="flex gap-2 px-3 py-2">
      <XCircleIcon class="mt-0.5 size-4 shrink-0 text-flare" />
      <div class="min-w-0 break-words">
        <b class="font-semibold">{{ p?.title ?? 'Something failed' }}</b>
        <div v-if="p?.detail">{{ p.object ? p.object + ': ' : '' }}{{ p.detail }}</div>
        <div v-if="!p">{{ String(error) }}</div>
        <div v-if="p?.way_out" class="text-slate">Fix: {{ p.way_out }}</div>
      </div>
    </div>
    <Findings
      v-if="(p?.findings?.length ?? 0) > 1"
      :findings="p!.findings!"
      class="border-t border-flare/30"
    />
  </div>
</template>
