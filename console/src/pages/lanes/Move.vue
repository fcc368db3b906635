<script setup lang="ts">
// Moves a lane, or takes its last move back, after showing what the machines of each group would
// see change.
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { ref } from 'vue'
import { get, post, type Lane, type LaneDifference } from '../../api'
import { count, size } from '../../format'
import Changes from '../../parts/Changes.vue'
import Findings from '../../parts/Findings.vue'
import Loading from '../../parts/Loading.vue'
import Mark from '../../parts/Mark.vue'
import Modal from '../../parts/Modal.vue'
import Trouble from '../../parts/Trouble.vue'

const props = defineProps<{ lane: Lane; to: string; back?: boolean }>()
const emit = defineEmits<{ close: []; moved: [] }>()
const client = useQueryClient()
const reason = ref('')
const error = ref<unknown>(null)
const open = ref('')
const q = useQuery({
  queryKey: ['lane-difference', props.lane.name, props.lane.edition, props.to],
  queryFn: () => get<LaneDifference>(`/lanes/${props.lane.name}/difference?to=${props.to}`),
})
const parts = (s: LaneDifference['groups'][number]['summary']) =>
  [
    s.security ? count(s.security, 'security update') : '',
    s.newer ? s.newer.toLocaleString('en') + ' newer' : '',
    s.older ? s.older.toLocaleString('en') + ' older' : '',
    s.added ? s.added.toLocaleString('en') + ' added' : '',
    s.removed ? s.removed.toLocaleString('en') + ' removed' : '',
  ].filter(Boolean)
async function go() {
  error.value = null
  try {
    const body = { edition: props.to, reason: reason.value }
    await post(
      `/lanes/${props.lane.name}/${props.back ? 'back' : 'move'}`,
      props.back ? { reason: reason.value } : body,
    )
    client.invalidateQueries()
    emit('moved')
    emit('close')
  } catch (e) {
    error.value = e
  }
}
</script>
<template>
  <Modal
    open
    wide
    :title="back ? `Revert the last move of ${lane.name}` : `Move ${lane.name} to ${to}`"
    @close="emit('close')"
  >
    <p>
      From <code>{{ lane.edition || 'nothing' }}</code> to <code>{{ to }}</code>.
      {{ lane.groups.length ? 'Machines see it at their next update.' : 'No group follows this lane.' }}
    </p>
    <Trouble :error="q.error.value" class="mt-3" />
    <Loading v-if="q.isPending.value" class="mt-3" what="What changes is being worked out" />
    <div v-else-if="q.data.value" class="mt-3 max-h-[48vh] overflow-auto">
      <div v-if="q.data.value.findings.length" class="panel mb-3">
        <Findings :findings="q.data.value.findings" />
      </div>
      <section v-for="g in q.data.value.groups" :key="g.group" class="panel mb-3">
        <div class="flex flex-wrap items-center gap-x-3 px-3 py-2">
          <h3 class="font-semibold">{{ g.group }}</h3>
          <span class="text-slate">{{ g.architectures.join(', ') }}</span>
          <span v-if="g.pins.length" class="text-slate">stays on {{ g.pins.join(', ') }}</span>
          <span class="ml-auto">
            <Mark v-if="g.blind" kind="error" word="sees no packages" />
            <Mark v-else-if="g.summary.security" kind="warning" :word="parts(g.summary).join(', ')" />
            <template v-else-if="g.summary.changes">{{ parts(g.summary).join(', ') }}</template>
            <span v-else class="text-slate">no changes</span>
            <span v-if="g.summary.changes" class="ml-2 text-slate">{{ size(g.summary.bytes) }}</span>
          </span>
          <button
            v-if="g.summary.changes"
            class="btn !h-6"
            :aria-expanded="open === g.group"
            @click="open = open === g.group ? '' : g.group"
          >
            {{ open === g.group ? 'Close' : 'Show' }}
          </button>
        </div>
        <p v-if="g.blind" class="px-3 pb-2">{{ g.blind }}</p>
        <template v-if="open === g.group">
          <Changes
            :changes="g.items"
            scroll="30vh"
            empty=""
            fixed
            class="!rounded-none !border-x-0 !border-b-0"
          />
          <p v-if="g.summary.changes > g.items.length" class="px-3 py-1.5 text-slate">
            Shows the {{ g.items.length }} most important changes;
            <RouterLink :to="`/editions/${to}?tab=1`">show all changes</RouterLink>.
          </p>
        </template>
      </section>
    </div>
    <form @submit.prevent="go">
      <label for="reason" class="mt-3 mb-1 block">Reason, for the journal</label>
      <input id="reason" v-model="reason" class="field" />
      <Trouble :error="error" class="mt-3" />
      <div class="mt-4 flex justify-end gap-2">
        <button type="button" class="btn" @click="emit('close')">Cancel</button>
        <button class="btn btn-go" :disabled="q.isPending.value">
          {{ back ? 'Revert' : 'Move lane' }}
        </button>
      </div>
    </form>
  </Modal>
</template>
