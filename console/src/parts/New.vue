<script setup lang="ts">
// Leads to the form of a new thing of a kind.
import { useRouter } from 'vue-router'
import Act from './Act.vue'
defineProps<{ of: string }>()
const router = useRouter()
</script>
<template>
  <Act does="record" @click="router.push('/describe?new=' + of)">New {{ of }}</Act>
</template>
