<script setup lang="ts">
// What becomes of one field: of a list what went and what came, of anything else old and new.
import type { DefinedField } from '../api'
import { written } from '../format'
defineProps<{ of: DefinedField }>()
</script>
<template>
  <template v-if="of.order?.length">in another order: {{ of.order.join(', ') }}</template>
  <template v-else-if="of.gone?.length || of.came?.length">
    <div v-for="g in of.gone" :key="'-' + g" class="text-slate">
      − <del>{{ g }}</del>
    </div>
    <div v-for="g in of.came" :key="'+' + g">+ {{ g }}</div>
  </template>
  <template v-else
    ><del class="text-slate">{{ written(of.old) }}</del> → {{ written(of.new) }}</template
  >
</template>
