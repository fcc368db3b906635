<script setup lang="ts">
import type { Finding } from '../api'
import Mark from './Mark.vue'
defineProps<{ findings: Finding[]; link?: boolean }>()
function to(f: Finding): string {
  const [kind, name] = (f.object ?? '').split(' ')
  return (
    {
      source: '/sources/' + name,
      mirror: '/mirrors/' + name,
      key: '/keys/' + name,
      edition: '/editions/' + name,
      credential: '/credentials',
      proxy: '/credentials',
      authority: '/credentials',
      lane: '/lanes',
      group: '/machines',
      journal: '/journal',
      package: '/sources',
      site: '/journal',
    }[kind] ?? ''
  )
}
</script>
<template>
  <ul class="divide-y divide-line/60">
    <li
      v-for="(f, i) in findings"
      :key="i"
      class="grid grid-cols-[84px_1fr_auto] items-start gap-x-3 px-3 py-2"
    >
      <Mark :kind="f.severity" class="pt-px" />
      <div class="min-w-0">
        <div class="break-words">
          <b v-if="f.object" class="font-semibold">{{ f.object }}</b><template v-if="f.object">: </template
          >{{ f.text }}
        </div>
        <pre v-if="f.excerpt" class="mono mt-1 overflow-auto text-slate">{{ f.excerpt }}</pre>
        <div class="break-words text-slate">
          <span v-if="f.place?.line" class="mono">line {{ f.place.line }} · </span>{{ f.way_out
          }}<code class="ml-2 inline-block whitespace-nowrap opacity-75">{{ f.code }}</code>
        </div>
      </div>
      <RouterLink v-if="link && to(f)" :to="to(f)" class="btn !h-6">Open</RouterLink>
    </li>
  </ul>
</template>
