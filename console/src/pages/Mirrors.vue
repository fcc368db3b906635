<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { get, type Mirror, type Page } from '../api'
import Count from '../parts/Count.vue'
import Mark from '../parts/Mark.vue'
import Moment from '../parts/Moment.vue'
import Take from '../parts/Take.vue'
import Trouble from '../parts/Trouble.vue'
const q = useQuery({
  queryKey: ['mirrors'],
  queryFn: () => get<Page<Mirror>>('/mirrors'),
  refetchInterval: 5000,
})
</script>
<template>
  <div class="mb-4 flex items-center gap-3">
    <h1>Mirrors</h1>
    <Take class="ml-auto" name="mirrors" :rows="q.data.value?.items ?? []" />
  </div>
  <Trouble :error="q.error.value" class="mb-4" />
  <div v-if="q.data.value" class="panel overflow-x-auto">
    <table v-if="q.data.value.items.length" class="grid-table">
      <thead>
        <tr>
          <th>Mirror</th>
          <th>Copy</th>
          <th>From</th>
          <th class="num">Editions</th>
          <th>Newest</th>
          <th>Made</th>
          <th>Lanes</th>
          <th>Schedule</th>
          <th>Findings</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="m in q.data.value.items" :key="m.name">
          <td>
            <RouterLink :to="'/mirrors/' + m.name" class="font-medium">{{ m.name }}</RouterLink>
          </td>
          <td>{{ m.copy }}</td>
          <td>{{ m.from.map((f) => f.source).join(', ') }}</td>
          <td class="num">{{ m.editions.length }}</td>
          <td>
            <RouterLink v-if="m.editions[0]" :to="'/editions/' + m.editions[0].name" class="mono">{{
              m.editions[0].name
            }}</RouterLink><span v-else class="text-slate">none yet</span>
          </td>
          <td><Moment :at="m.editions[0]?.created" /></td>
          <td>{{ m.lanes.join(', ') || '–' }}</td>
          <td class="mono">{{ m.schedule || '–' }}</td>
          <td><Mark v-if="m.job" kind="busy" word="being built" /><Count v-else :findings="m.findings" /></td>
        </tr>
      </tbody>
    </table>
    <p v-else class="px-3 py-3 text-slate">
      No mirror is described yet. Write one under mirrors: in a definition and run stockade record FILE.
    </p>
  </div>
</template>
