<script setup lang="ts">
// Why what is wanted cannot be installed: the smallest explanation of each as a tree, and the
// changes that were tried and lead out.
import { ref } from 'vue'
import type { Refusal, WayOut } from '../../api'
import { count, size } from '../../format'
import Act from '../../parts/Act.vue'
import { asked } from '../../parts/way'
import Because from './Because.vue'
const props = defineProps<{ refusals: Refusal[]; of: number; mirror: string }>()
const open = ref(new Set(props.refusals.length < 4 ? props.refusals.map((_, i) => i) : [0]))
function turn(i: number) {
  if (!open.value.delete(i)) open.value.add(i)
}
const what = (w: WayOut) =>
  ({
    source: `add the source ${w.name}`,
    except: `remove the exception for ${w.name}`,
    pin: `pin ${w.name} to ${w.version}`,
    leave: `remove ${w.name}`,
  })[w.kind] ?? w.kind
const comes = (w: WayOut) =>
  w.files ? `${count(w.files, 'more package')}, ${size(w.bytes)}: ${some(w.packages ?? [])}` : ''
const some = (names: string[]) =>
  names.length > 4 ? names.slice(0, 3).join(', ') + ` and ${names.length - 3} others` : names.join(', ')
function ask(w: WayOut) {
  const { kind, object, name, version } = w
  asked.value = {
    amend: {
      of: version ? { kind, object, name, version } : { kind, object, name },
      title: `${object}: ${what(w)}`,
      mirror: props.mirror,
    },
  }
}
</script>
<template>
  <ul class="panel divide-y divide-line/60">
    <li v-for="(r, i) in refusals" :key="i" class="px-3 py-2">
      <button
        type="button"
        class="flex w-full items-baseline gap-2 text-left"
        :aria-expanded="open.has(i)"
        @click="turn(i)"
      >
        <span class="w-3 text-slate">{{ open.has(i) ? '▾' : '▸' }}</span>
        <span
          ><span :class="r.set ? '' : 'mono'" class="font-medium">{{ r.wanted }}</span> cannot be installed
          {{ r.view ? 'by ' + r.view + ' ' : '' }}on {{ r.architecture }}</span
        >
        <span class="ml-auto text-slate">{{
          r.ways_out?.length
            ? count(r.ways_out.length, 'possible fix', 'possible fixes')
            : r.tried
              ? 'no single change fixes it'
              : 'possible fixes were not tested; see those above'
        }}</span>
      </button>
      <div v-if="open.has(i)" class="mt-1.5 grid grid-cols-[minmax(0,1fr)_400px] gap-6 pl-5">
        <div class="min-w-0 overflow-x-auto">
          <ul v-if="r.why">
            <Because :of="r.why" />
          </ul>
          <p v-else>{{ r.because }}</p>
          <p v-if="r.why && !r.minimal" class="text-slate">
            The explanation may not be minimal, because the time limit was reached.
          </p>
        </div>
        <div v-if="r.ways_out?.length">
          <p class="text-slate">Possible fixes, each of them tested:</p>
          <ul class="space-y-1.5">
            <li v-for="w in r.ways_out" :key="w.kind + w.name" class="flex items-start gap-2">
              <span class="min-w-0 flex-1"
                >{{ what(w)
                }}<span v-if="w.files" class="block text-[12px] text-slate">{{ comes(w) }}</span></span
              >
              <Act
                v-if="w.object"
                does="amend"
                dense
                :aria-label="'Apply this fix: ' + what(w)"
                @click="ask(w)"
                >Apply this fix</Act
              >
            </li>
          </ul>
        </div>
      </div>
    </li>
    <li v-if="of > refusals.length" class="px-3 py-2 text-slate">
      {{ of - refusals.length }} others cannot be installed either; findings tell of them.
    </li>
  </ul>
</template>
