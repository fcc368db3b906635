<script setup lang="ts">
// Says that something is being worked out, and keeps room for it.
defineProps<{ what?: string }>()
</script>
<template>
  <p class="panel flex min-h-24 items-center justify-center text-slate" role="status">
    {{ what ?? 'Loading' }} …
  </p>
</template>
