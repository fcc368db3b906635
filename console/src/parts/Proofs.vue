<script setup lang="ts">
// What was proved, for whom: how much of what is wanted can be installed.
import type { Proof } from '../api'
import Mark from './Mark.vue'
defineProps<{ proofs: Proof[] }>()
</script>
<template>
  <table class="grid-table">
    <thead>
      <tr>
        <th>Proved for</th>
        <th>On</th>
        <th class="num">Wanted</th>
        <th class="num">Can be installed</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="p in proofs" :key="(p.view ?? '') + p.architecture">
        <td>{{ p.view || 'machines of no group' }}</td>
        <td class="mono">{{ p.architecture }}</td>
        <td class="num">{{ p.wanted.toLocaleString('en') }}</td>
        <td class="num">
          <Mark :kind="p.proved < p.wanted ? 'error' : 'good'" :word="p.proved.toLocaleString('en')" />
        </td>
      </tr>
    </tbody>
  </table>
</template>
