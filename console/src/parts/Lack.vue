<script setup lang="ts">
// Says once what a role does not let somebody do on a page.
import { LockClosedIcon } from '@heroicons/vue/16/solid'
import { lacks, type Does } from '../api'
defineProps<{ does: Does; what: string }>()
</script>
<template>
  <p v-if="lacks(does)" class="mb-3 flex items-center gap-1 text-slate">
    <LockClosedIcon class="size-3.5" aria-hidden="true" />{{ what }} needs the role {{ lacks(does) }}.
  </p>
</template>
