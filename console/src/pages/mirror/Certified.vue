<script setup lang="ts">
// All that would be installed with a package, for each kind of machines.
import type { Certified } from '../../api'
import { count, size } from '../../format'
defineProps<{ certified: Certified[] }>()
</script>
<template>
  <div
    v-for="c in certified"
    :key="(c.view ?? '') + c.architecture + c.package"
    class="panel overflow-x-auto"
  >
    <p class="border-b border-line px-3 py-1.5">
      <span class="mono font-medium">{{ c.package }}</span>, installed
      {{ c.view ? 'by ' + c.view + ' ' : '' }}on {{ c.architecture }}:
      <template v-if="c.because">{{ c.because }}</template>
      <template v-else>{{
        count(c.packages.length, 'package') + '. Every dependency was checked again and is satisfied'
      }}</template>
    </p>
    <table v-if="c.packages.length" class="grid-table">
      <thead>
        <tr>
          <th>Package</th>
          <th>Version</th>
          <th>Architecture</th>
          <th>Source</th>
          <th class="num">Size</th>
          <th>Needed by</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="p in c.packages" :key="p.name + p.version + p.architecture">
          <td class="mono">{{ p.name }}</td>
          <td class="mono">{{ p.version }}</td>
          <td class="mono">{{ p.architecture }}</td>
          <td>{{ p.source }}<span v-if="p.outside" class="text-slate"> (elsewhere)</span></td>
          <td class="num">{{ size(p.size) }}</td>
          <td class="mono">{{ p.for || 'asked for' }}</td>
        </tr>
      </tbody>
    </table>
  </div>
</template>
