<script setup lang="ts">
// What a change takes away or out of use, with what stands on each.
import type { Loss } from '../api'
import Mark from './Mark.vue'
import Standing from './Standing.vue'

defineProps<{ of: Loss[] }>()
</script>
<template>
  <div v-for="l in of" :key="l.kind + l.name" class="border-b border-line/60 px-3 py-1.5">
    <Mark kind="warning" :word="l.how" class="mr-1 w-20" />
    {{ l.kind }} <b class="font-semibold break-all">{{ l.name }}</b>, used by
    <Standing :of="l" class="mt-1 pl-6" />
    <p v-if="l.kind === 'upstream'" class="pl-6 text-slate">
      {{ l.sources[0] }} keeps {{ l.left || 'no' }} upstream{{ l.left === 1 ? '' : 's' }}.
    </p>
    <p v-if="l.kind === 'key' && l.alone.length" class="pl-6 text-slate">
      It is the only key of {{ l.alone.join(', ') }}.
    </p>
  </div>
</template>
