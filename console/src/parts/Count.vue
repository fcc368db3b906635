<script setup lang="ts">
// Findings in a table cell: the worst first, each with its number.
import type { Finding } from '../api'
import Mark from './Mark.vue'
const props = defineProps<{ findings: Finding[] }>()
const of = (s: string) => props.findings.filter((f) => f.severity === s).length
</script>
<template>
  <span class="inline-flex flex-wrap items-baseline gap-x-3">
    <Mark v-if="!findings.length" kind="good" word="none" />
    <Mark v-if="of('error')" kind="error" :word="of('error') + (of('error') === 1 ? ' error' : ' errors')" />
    <Mark
      v-if="of('warning')"
      kind="warning"
      :word="of('warning') + (of('warning') === 1 ? ' warning' : ' warnings')"
    />
    <Mark v-if="of('note')" kind="note" :word="of('note') + (of('note') === 1 ? ' note' : ' notes')" />
  </span>
</template>
