<script setup lang="ts">
// What is in an edition and not in another one of its mirror, and the other way round: counted
// and paged by the service.
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { get, type Difference, type Edition } from '../../api'
import { size } from '../../format'
import Changes from '../../parts/Changes.vue'
import Loading from '../../parts/Loading.vue'
import Take from '../../parts/Take.vue'
import Trouble from '../../parts/Trouble.vue'

const props = defineProps<{ base: string; name: string; older: Edition[] }>()
const against = defineModel<string>({ required: true })
const route = useRoute()
const router = useRouter()
const kind = computed({
  get: () => String(route.query.kind ?? ''),
  set: (v) => router.replace({ query: { ...route.query, kind: v || undefined } }),
})
const text = ref('')
const limit = ref(200)
const path = computed(
  () =>
    `${props.base}/diff?kind=${kind.value}&q=${encodeURIComponent(text.value)}` +
    (against.value ? '&against=' + against.value : ''),
)
const q = useQuery({
  queryKey: ['diff', path, limit],
  queryFn: () => get<Difference>(path.value + '&limit=' + limit.value),
  enabled: computed(() => props.older.length > 0),
  placeholderData: (old: Difference | undefined) => old,
})
const kinds = computed(() => {
  const s = q.data.value?.summary
  if (!s) return []
  const all: [string, string, number][] = [
    ['', 'all', s.changes],
    ['security', 'security', s.security],
    ['newer', 'newer', s.newer],
    ['older', 'older', s.older],
    ['added', 'added', s.added],
    ['removed', 'removed', s.removed],
  ]
  return all.map(([key, word, n]) => ({ key, word, n }))
})
</script>
<template>
  <template v-if="older.length">
    <div class="mb-2 flex flex-wrap items-center gap-2">
      <label for="against">Compare with</label
      ><select id="against" v-model="against" class="field !w-40">
        <option value="">the edition before</option>
        <option v-for="o in older" :key="o.number" :value="String(o.number)">{{ o.name }}</option>
      </select>
      <span class="ml-2 flex gap-1" role="group" aria-label="Which changes">
        <button
          v-for="k in kinds"
          :key="k.key"
          class="btn !h-6"
          :class="kind === k.key ? '!border-tide !text-tide' : ''"
          :aria-pressed="kind === k.key"
          :disabled="!k.n"
          @click="kind = k.key"
        >
          {{ k.n.toLocaleString('en') }} {{ k.word }}
        </button>
      </span>
      <input
        v-model.lazy="text"
        class="field !w-40"
        placeholder="Name, then Enter"
        aria-label="Search the difference"
      />
      <Take class="ml-auto" :name="name + '-difference'" :rows="q.data.value?.items ?? []" :path="path" />
    </div>
    <Trouble :error="q.error.value" />
    <Loading v-if="q.isPending.value" what="The two editions are being compared" />
    <template v-if="q.data.value">
      <p class="mb-2 text-slate">
        New packages: {{ size(q.data.value.summary.bytes) }} in total.
        <template v-if="q.data.value.next"
          >{{ q.data.value.items.length }} of {{ q.data.value.matching.toLocaleString('en') }} are shown.
          <button v-if="limit < 1000" class="text-tide underline" @click="limit = 1000">Show more</button>
          <template v-else>Search for a name, or download the list.</template></template
        >
      </p>
      <Changes
        :changes="q.data.value.items"
        :scroll="'calc(100vh - 280px)'"
        empty="No changes: the packages are the same."
        :fixed="!!q.data.value.next"
      />
    </template>
  </template>
  <p v-else class="text-slate">This is the only edition of its mirror.</p>
</template>
