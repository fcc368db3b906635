<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { get, type Machines } from '../../api'
import Tabs from '../../parts/Tabs.vue'
import Trouble from '../../parts/Trouble.vue'
import Enrolled from './Enrolled.vue'
import Groups from './Groups.vue'

const q = useQuery({ queryKey: ['machines', 'counts'], queryFn: () => get<Machines>('/machines?limit=1') })
</script>
<template>
  <h1 class="mb-3">Machines</h1>
  <Trouble :error="q.error.value" class="mb-4" />
  <Tabs v-if="q.data.value" :names="['Groups', 'Machines']">
    <template #0><Groups :counts="q.data.value.groups" /></template>
    <template #1><Enrolled :counts="q.data.value.groups" /></template>
  </Tabs>
</template>
