<script setup lang="ts">
// What is new since the account last looked.
import type { Overview } from '../../api'
import { count } from '../../format'
import Mark from '../../parts/Mark.vue'
import Moment from '../../parts/Moment.vue'
defineProps<{ of: NonNullable<Overview['since']> }>()
</script>
<template>
  <section>
    <h2 class="mb-1.5">Since you last looked, <Moment :at="of.at" /></h2>
    <div class="panel divide-y divide-line/60">
      <p v-if="of.failures.length" class="flex flex-wrap gap-x-3 px-3 py-2">
        <Mark kind="warning" :word="count(of.failures.length, 'job') + ' failed or interrupted'" />
        <RouterLink v-for="j in of.failures.slice(0, 4)" :key="j.id" :to="'/jobs?state=' + j.state"
          >{{ j.kind }} of {{ j.object }}</RouterLink
        >
      </p>
      <p v-if="of.roots.length" class="px-3 py-2">
        {{ count(of.roots.length, 'source', 'sources') + ' with new release metadata' }}:
        <template v-for="(r, i) in of.roots.slice(0, 6)" :key="r.source"
          >{{ i ? ', ' : '' }}<RouterLink :to="'/sources/' + r.source">{{ r.source }}</RouterLink></template
        ><template v-if="of.roots.length > 6"> and {{ count(of.roots.length - 6, 'other') }}</template>
      </p>
      <p v-if="of.editions.length" class="px-3 py-2">
        {{ count(of.editions.length, 'new edition') }}:
        <template v-for="(e, i) in of.editions.slice(0, 6)" :key="e"
          >{{ i ? ', ' : '' }}<RouterLink :to="'/editions/' + e" class="mono">{{ e }}</RouterLink></template
        ><template v-if="of.editions.length > 6"> and {{ count(of.editions.length - 6, 'other') }}</template>
      </p>
      <p v-if="of.moves.length" class="px-3 py-2">
        {{ count(of.moves.length, 'move') }}:
        <template v-for="(m, i) in of.moves.slice(0, 4)" :key="i"
          >{{ i ? '; ' : '' }}<RouterLink to="/lanes">{{ m.lane }}</RouterLink>
          {{ m.back ? 'back to' : 'to' }} <code>{{ m.edition }}</code> by {{ m.by }}</template
        ><template v-if="of.moves.length > 4"> and {{ count(of.moves.length - 4, 'other') }}</template>
      </p>
      <p class="px-3 py-2">
        <RouterLink v-if="of.entries" :to="'/journal?since=' + of.at"
          >{{ of.entries >= 1000 ? 'A thousand or more entries' : count(of.entries, 'entry', 'entries') }} in
          the journal</RouterLink
        ><span v-else class="text-slate">No entries.</span>
      </p>
    </div>
  </section>
</template>
