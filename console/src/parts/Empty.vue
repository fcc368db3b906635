<script setup lang="ts">
// Says of a list that is empty what to do first.
</script>
<template>
  <p class="px-3 py-3 text-slate"><slot /></p>
</template>
