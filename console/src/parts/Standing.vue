<script setup lang="ts">
// The described things that stand on one of them.
import { computed } from 'vue'
import type { Standing } from '../api'

const props = defineProps<{ of: Standing }>()
const rows = computed(() =>
  (
    [
      ['Proxies', props.of.proxies],
      ['Sources', props.of.sources],
      ['Mirrors', props.of.mirrors],
      ['Lanes', props.of.lanes],
      ['Groups', props.of.groups],
    ] as [string, string[]][]
  ).filter(([, names]) => names.length),
)
</script>
<template>
  <dl class="facts">
    <template v-for="[what, names] in rows" :key="what">
      <dt>{{ what }}</dt>
      <dd>{{ names.join(', ') }}</dd>
    </template>
    <template v-if="!rows.length"
      ><dt>Used by</dt>
      <dd>nothing</dd></template
    >
  </dl>
</template>
