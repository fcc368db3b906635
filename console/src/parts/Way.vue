<script setup lang="ts">
// What can be done about a finding, as a button.
import type { Finding } from '../api'
import Act from './Act.vue'
import { ask, callOf, wordOf } from './way'
defineProps<{ of: Finding }>()
</script>
<template>
  <Act v-if="of.way" :does="callOf(of.way)" class="!h-6" dense @click="ask(of.way)">{{ wordOf(of.way) }}</Act>
</template>
