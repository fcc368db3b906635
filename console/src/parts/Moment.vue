<script setup lang="ts">
import { absolute, ago } from '../format'
defineProps<{ at?: string | null }>()
</script>
<template>
  <time :datetime="at ?? ''" :title="absolute(at)" class="whitespace-nowrap">{{ ago(at) }}</time>
</template>
