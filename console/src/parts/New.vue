<script setup lang="ts">
// Leads to the form of a new thing of a kind.
import { who } from '../api'
defineProps<{ of: string }>()
</script>
<template>
  <RouterLink v-if="who?.role !== 'viewer'" class="btn" :to="'/describe?new=' + of">New {{ of }}</RouterLink>
  <button v-else class="btn" disabled title="operators and wardens describe">New {{ of }}</button>
</template>
