<script setup lang="ts">
// A package in an explanation, with what it needs and excludes below it.
import type { Explained } from '../../api'
defineProps<{ of: Explained }>()
</script>
<template>
  <li>
    <span class="mono">{{ of.package }}</span>
    <span v-if="of.source" class="text-slate"> of {{ of.source }}</span>
    <span v-if="of.above" class="text-slate">, see above</span
    ><span v-if="of.deeper" class="text-slate">, and more</span>
    <ul v-if="of.excludes?.length || of.needs?.length" class="ml-1.5 space-y-0.5 border-l border-line pl-3">
      <li v-for="x in of.excludes" :key="x"><span class="text-flare">⊘</span> {{ x }}</li>
      <li v-for="n in of.needs" :key="n.clause">
        requires <span class="mono">{{ n.clause }}</span>
        <template v-if="!n.ways?.length">
          <span class="text-flare">
            —
            {{
              n.excepted?.length
                ? 'an exception removes what provides it: ' + n.excepted.join(', ')
                : 'nothing that the machines see provides it'
            }}
          </span>
        </template>
        <template v-else>
          <span class="text-slate">, which is provided by</span>
          <ul class="ml-1.5 space-y-0.5 border-l border-line pl-3">
            <Because v-for="w in n.ways" :key="w.package + w.source" :of="w" />
            <li v-if="n.further" class="text-slate">or one of {{ n.further }} others, which fare alike</li>
          </ul>
        </template>
      </li>
    </ul>
  </li>
</template>
