<script setup lang="ts">
import { absolute, ago, whole } from '../format'
defineProps<{ at?: string | null }>()
</script>
<template>
  <time :datetime="at ?? ''" :title="absolute(at)" class="whitespace-nowrap">{{
    whole ? absolute(at) : ago(at)
  }}</time>
</template>
