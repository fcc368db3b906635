<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { get, post, type JournalEntry, type Page } from '../api'
import Mark from '../parts/Mark.vue'
import Moment from '../parts/Moment.vue'
import Take from '../parts/Take.vue'
import Trouble from '../parts/Trouble.vue'
const route = useRoute()
const router = useRouter()
const text = computed({
  get: () => String(route.query.q ?? ''),
  set: (v) => router.replace({ query: v ? { q: v } : {} }),
})
const q = useQuery({
  queryKey: ['journal', text],
  queryFn: () => get<Page<JournalEntry>>('/journal?limit=200&q=' + encodeURIComponent(text.value)),
})
const report = ref<{ holds: boolean; text: string } | null>(null)
const error = ref<unknown>(null)
async function verify() {
  try {
    report.value = await post('/journal/verify')
  } catch (e) {
    error.value = e
  }
}
</script>
<template>
  <div class="mb-4 flex items-center gap-3">
    <h1>Journal</h1>
    <Mark v-if="report" :kind="report.holds ? 'good' : 'error'" :word="report.text" /><input
      v-model.lazy="text"
      class="field ml-auto !w-56"
      placeholder="Filter, then Enter"
      aria-label="Filter the journal"
    /><Take name="journal" :rows="q.data.value?.items ?? []" /><button class="btn btn-go" @click="verify">
      Verify
    </button>
  </div>
  <Trouble :error="q.error.value ?? error" class="mb-4" />
  <div v-if="q.data.value" class="panel overflow-x-auto">
    <table class="grid-table">
      <thead>
        <tr>
          <th class="num">Entry</th>
          <th>When</th>
          <th>By</th>
          <th>Action</th>
          <th>Object</th>
          <th>Detail</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="e in q.data.value.items" :key="e.number">
          <td class="num">{{ e.number }}</td>
          <td><Moment :at="e.at" /></td>
          <td>{{ e.by }}</td>
          <td class="mono">{{ e.action }}</td>
          <td class="max-w-64 truncate" :title="e.object">{{ e.object }}</td>
          <td class="max-w-[480px] truncate text-slate" :title="JSON.stringify(e.detail)">
            {{
              Object.entries(e.detail ?? {})
                .filter(([, v]) => v)
                .map(([k, v]) => k + ': ' + v)
                .join(' · ')
            }}
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>
