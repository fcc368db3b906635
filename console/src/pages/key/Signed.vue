<script setup lang="ts">
// All that a key has signed here, and what would stop without it.
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { get, type Signed } from '../../api'
import { count } from '../../format'
import Mark from '../../parts/Mark.vue'
import Moment from '../../parts/Moment.vue'
import Standing from '../../parts/Standing.vue'
import Trouble from '../../parts/Trouble.vue'

const props = defineProps<{ fingerprint: string }>()
const q = useQuery({
  queryKey: ['signed', props.fingerprint],
  queryFn: () => get<Signed>(`/keys/${props.fingerprint}/signed`),
})
const s = computed(() => q.data.value)
</script>
<template>
  <Trouble :error="q.error.value" />
  <section v-if="q.isPending.value">
    <h2 class="mb-1.5">Signed by it</h2>
    <p class="panel px-3 py-2"><Mark kind="busy" word="searching" /></p>
  </section>
  <template v-if="s">
    <section>
      <h2 class="mb-1.5">Signed by it</h2>
      <div class="panel max-h-72 overflow-auto">
        <table v-if="s.roots.length || s.packages.length" class="grid-table">
          <thead>
            <tr>
              <th>What</th>
              <th>Source</th>
              <th>In</th>
              <th>Signed</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="r in s.roots" :key="r.source + r.edition">
              <td>release metadata, made <Moment :at="r.date" /></td>
              <td>
                <RouterLink :to="'/sources/' + r.source">{{ r.source }}</RouterLink>
              </td>
              <td>
                <RouterLink v-if="r.edition" :to="'/editions/' + r.edition" class="mono">{{
                  r.edition
                }}</RouterLink><template v-else>last accepted</template>
              </td>
              <td><Moment :at="r.at" /></td>
            </tr>
            <tr v-for="p in s.packages" :key="p.edition + p.source">
              <td>{{ count(p.packages, 'package') }}</td>
              <td>
                <RouterLink :to="'/sources/' + p.source">{{ p.source }}</RouterLink>
              </td>
              <td>
                <RouterLink :to="'/editions/' + p.edition" class="mono">{{ p.edition }}</RouterLink>
              </td>
              <td>–</td>
            </tr>
          </tbody>
        </table>
        <p v-else class="px-3 py-2 text-slate">Nothing that Stockade has stored.</p>
        <p v-if="s.unread.length" class="border-t border-line px-3 py-2">
          <Mark kind="warning" word="unknown" /> for {{ s.unread.join(', ') }}, which cannot be read
        </p>
      </div>
    </section>
    <section v-if="s.stops.sources.length">
      <h2 class="mb-1.5">Depends only on it</h2>
      <div class="panel px-3 py-2"><Standing :of="s.stops" /></div>
    </section>
  </template>
</template>
