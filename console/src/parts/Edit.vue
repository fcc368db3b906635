<script setup lang="ts">
// Leads to the form and the text of something that is described.
defineProps<{ kind: string; name: string }>()
</script>
<template>
  <RouterLink class="btn" :to="`/describe?edit=${kind}/${name}`" :aria-label="`Edit ${kind} ${name}`"
    >Edit</RouterLink
  >
</template>
