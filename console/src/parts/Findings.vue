<script setup lang="ts">
import type { Finding } from '../api'
import Act from './Act.vue'
import Mark from './Mark.vue'
import Way from './Way.vue'
// go, where it is given, leads to the line that a finding is about.
// aside: each can be set aside.
defineProps<{
  findings: Finding[]
  link?: boolean
  aside?: boolean
  go?: (f: Finding) => void
}>()
const emit = defineEmits<{ aside: [f: Finding] }>()
const machines: Record<string, string> = {
  'machine.security-waits': 'security',
  'machine.stranded-package': 'stranded',
  'machine.ahead': 'ahead',
  'machine.stale': 'stale',
}
function to(f: Finding): string {
  const [kind, name] = (f.object ?? '').split(' ')
  if (kind === 'group' && machines[f.code]) return `/machines?tab=1&in=${name}&state=${machines[f.code]}`
  return (
    {
      source: '/sources/' + name,
      mirror: '/mirrors/' + name,
      list: '/describe?edit=list/' + name,
      key: '/keys/' + name,
      edition: '/editions/' + name,
      credential: '/credentials',
      proxy: '/credentials',
      authority: '/credentials',
      lane: '/lanes',
      group: '/machines',
      machine: '/machines/' + name,
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
          <button v-if="f.place?.line && go" class="mono text-tide underline" @click="go(f)">
            line {{ f.place.line }}</button
          ><span v-else-if="f.place?.line" class="mono">line {{ f.place.line }}</span
          ><template v-if="f.place?.line"> · </template
          ><template v-if="f.way_out">Fix: {{ f.way_out }}</template
          ><code class="ml-2 inline-block whitespace-nowrap">{{ f.code }}</code>
        </div>
      </div>
      <span class="flex flex-col items-end gap-1.5">
        <Way v-if="f.way" :of="f" />
        <RouterLink v-if="link && to(f)" :to="to(f)" class="btn !h-6">Open</RouterLink>
        <Act v-if="aside" does="setAside" dense class="!h-6" @click="emit('aside', f)">Snooze</Act>
      </span>
    </li>
  </ul>
</template>
