<script setup lang="ts">
// What needs somebody. Findings that are alike are one line; the others of it are asked for when it is
// opened.
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { get, type Alike, type Finding, type Told } from '../../api'
import Findings from '../../parts/Findings.vue'
import Act from '../../parts/Act.vue'
import Aside from '../../parts/Aside.vue'
import { count } from '../../format'
import Loading from '../../parts/Loading.vue'
import Mark from '../../parts/Mark.vue'
import Trouble from '../../parts/Trouble.vue'
defineProps<{ lines: Alike[] }>()
const setting = ref<Finding[] | null>(null)
const key = (l: Alike) =>
  new URLSearchParams({ severity: l.severity, code: l.code, cause: l.cause ?? '', kind: l.kind }).toString()
const open = ref('')
const all = useQuery({
  queryKey: ['findings', open],
  queryFn: () => get<Told>('/findings?' + open.value),
  enabled: computed(() => !!open.value),
})
const about = (l: Alike) => {
  const rest = l.objects - l.names.length
  const some = l.names.join(', ') + (rest > 0 ? ` and ${count(rest, 'other')}` : '')
  return `${l.kind}${l.objects > 1 ? 's' : ''} ${some}`
}
</script>
<template>
  <div class="divide-y divide-line/60">
    <template v-for="l in lines" :key="key(l)">
      <Findings
        v-if="l.findings.length === l.count"
        :findings="l.findings"
        link
        aside
        @aside="setting = [$event]"
      />
      <div v-else>
        <button
          type="button"
          class="grid w-full grid-cols-[84px_1fr_auto] items-start gap-x-3 px-3 py-2 text-left"
          :aria-expanded="open === key(l)"
          @click="open = open === key(l) ? '' : key(l)"
        >
          <Mark :kind="l.severity" class="pt-px" />
          <span class="min-w-0 break-words"
            ><b class="font-semibold">{{ about(l) }}</b
            >: {{ l.count }} alike, such as: {{ l.findings[0].text }}
            <code class="ml-1">{{ l.code }}</code></span
          >
          <span class="btn !h-6" aria-hidden="true">{{ open === key(l) ? 'Close' : 'Show all' }}</span>
        </button>
        <template v-if="open === key(l)">
          <Trouble :error="all.error.value" />
          <Loading v-if="all.isPending.value" />
          <template v-if="all.data.value">
            <Findings
              class="border-t border-line/60 bg-raised/40"
              :findings="all.data.value.needs_you"
              link
              aside
              @aside="setting = [$event]"
            />
            <p class="flex justify-end border-t border-line/60 px-3 py-2">
              <Act does="setAside" dense class="!h-6" @click="setting = all.data.value.needs_you"
                >Snooze all</Act
              >
            </p>
          </template>
        </template>
      </div>
    </template>
    <Aside v-if="setting" :of="setting" @close="setting = null" />
  </div>
</template>
