<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { get, post, type Edition, type Lane, type PackageChange, type Page } from '../../api'
import { count, size } from '../../format'
import Findings from '../../parts/Findings.vue'
import Mark from '../../parts/Mark.vue'
import Modal from '../../parts/Modal.vue'
import Moment from '../../parts/Moment.vue'
import New from '../../parts/New.vue'
import Trouble from '../../parts/Trouble.vue'
import Act from '../../parts/Act.vue'
import Lack from '../../parts/Lack.vue'
const client = useQueryClient()
const lanes = useQuery({
  queryKey: ['lanes'],
  queryFn: () => get<Page<Lane>>('/lanes'),
})
const editions = useQuery({
  queryKey: ['editions'],
  queryFn: () => get<Page<Edition>>('/editions'),
})
const cols = computed(() => lanes.data.value?.items ?? [])
const rows = computed(() =>
  (editions.data.value?.items ?? []).filter((e) => cols.value.some((l) => l.mirror === e.mirror)),
)
const asked = ref<{ lane: Lane; edition?: Edition } | null>(null)
const changes = ref<PackageChange[] | null>(null)
const reason = ref('')
const error = ref<unknown>(null)
async function ask(lane: Lane, edition?: Edition) {
  asked.value = { lane, edition }
  changes.value = null
  reason.value = ''
  error.value = null
  if (edition && lane.edition) {
    try {
      changes.value = (
        await get<Page<PackageChange>>(`/editions/${edition.name}/diff?against=${lane.edition.split('/')[1]}`)
      ).items
    } catch (e) {
      error.value = e
    }
  }
}
async function go() {
  const { lane, edition } = asked.value!
  try {
    if (edition) await post(`/lanes/${lane.name}/move`, { edition: edition.name, reason: reason.value })
    else await post(`/lanes/${lane.name}/back`, { reason: reason.value })
    asked.value = null
    client.invalidateQueries()
  } catch (e) {
    error.value = e
  }
}
</script>
<template>
  <div class="mb-1 flex items-center">
    <h1>Lanes</h1>
    <New class="ml-auto" of="lane" />
  </div>
  <p class="mb-4 text-slate">
    What machines see. Moving a lane is seen by every machine of its groups at its next update; going back is
    one step.
  </p>
  <Trouble :error="lanes.error.value ?? editions.error.value" class="mb-4" />
  <div v-if="cols.length" class="panel overflow-x-auto">
    <Lack does="move" what="Moving a lane" class="px-3 pt-3" />
    <table class="grid-table">
      <thead>
        <tr>
          <th>Edition</th>
          <th>Made</th>
          <th class="num">Packages</th>
          <th class="num">Size</th>
          <th v-for="l in cols" :key="l.name" class="!text-center">{{ l.name }}</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="e in rows" :key="e.name">
          <td>
            <RouterLink :to="'/editions/' + e.name" class="mono">{{ e.name }}</RouterLink>
          </td>
          <td><Moment :at="e.created" /></td>
          <td class="num">{{ e.packages.toLocaleString('en') }}</td>
          <td class="num">{{ size(e.bytes) }}</td>
          <td v-for="l in cols" :key="l.name" class="text-center">
            <Mark v-if="l.edition === e.name" kind="good" word="here" /><Act
              v-else-if="l.mirror === e.mirror"
              does="move"
              dense
              class="!h-6"
              @click="ask(l, e)"
            >
              Move here</Act
            ><span v-else class="text-line">·</span>
          </td>
        </tr>
      </tbody>
    </table>
    <p v-if="!rows.length" class="px-3 py-2 text-slate">No edition stands yet: build a mirror first.</p>
  </div>
  <p v-else-if="lanes.data.value" class="panel px-3 py-3 text-slate">
    No lane is described yet: a name that machines follow, which shows one edition of a mirror.
  </p>
  <div class="mt-5 grid grid-cols-2 gap-5">
    <section v-for="l in cols" :key="l.name" class="panel p-3">
      <div class="mb-2 flex items-center gap-2">
        <h2>{{ l.name }}</h2>
        <code v-if="l.edition">{{ l.edition }}</code><Act
          does="back"
          class="ml-auto !h-6"
          :disabled="l.history.length < 2"
          @click="ask(l)"
        >
          One step back
        </Act>
      </div>
      <Findings v-if="l.findings.length" class="mb-2" :findings="l.findings" />
      <dl class="facts">
        <dt>Address</dt>
        <dd class="mono">{{ l.url }}</dd>
        <dt>Groups</dt>
        <dd>{{ l.groups.join(', ') || 'none' }}</dd>
      </dl>
      <table v-if="l.history.length" class="grid-table mt-2">
        <tbody>
          <tr v-for="(h, i) in l.history.slice(0, 5)" :key="i">
            <td><Moment :at="h.at" /></td>
            <td>
              {{ h.back ? 'back to' : 'to' }} <code>{{ h.edition }}</code>
            </td>
            <td>{{ h.by }}</td>
            <td class="text-slate">{{ h.reason }}</td>
          </tr>
        </tbody>
      </table>
    </section>
  </div>
  <Modal
    v-if="asked"
    open
    wide
    :title="
      asked.edition
        ? `Move ${asked.lane.name} to ${asked.edition.name}`
        : `Take the last move of ${asked.lane.name} back`
    "
    @close="asked = null"
  >
    <p>
      {{
        asked.lane.groups.length
          ? `The machines of ${asked.lane.groups.join(', ')} see this at their next update.`
          : 'No group follows this lane.'
      }}
    </p>
    <template v-if="asked.edition"
      ><p v-if="!asked.lane.edition" class="mt-2">
        The lane showed nothing before: machines get {{ count(asked.edition.packages, 'package') }} to choose
        from.
      </p>
      <template v-else-if="changes"
        ><p class="mt-2">
          {{
            changes.length
              ? count(changes.length, 'package changes', 'packages change') + ':'
              : 'The packages are the same.'
          }}
        </p>
        <div v-if="changes.length" class="panel mt-2 max-h-72 overflow-auto">
          <table class="grid-table">
            <thead>
              <tr>
                <th>Change</th>
                <th>Package</th>
                <th>Architecture</th>
                <th>Old version</th>
                <th>New version</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="(c, i) in changes" :key="i">
                <td>{{ c.action }}</td>
                <td>{{ c.name }}</td>
                <td>{{ c.arch }}</td>
                <td class="mono">{{ c.old_version ?? '–' }}</td>
                <td class="mono">{{ c.new_version ?? '–' }}</td>
              </tr>
            </tbody>
          </table>
        </div></template
      ></template
    >
    <label for="reason" class="mt-3 mb-1 block">Reason, for the journal</label
    ><input id="reason" v-model="reason" class="field" autofocus /> <Trouble :error="error" class="mt-3" />
    <div class="mt-4 flex justify-end gap-2">
      <button class="btn" @click="asked = null">Leave it</button
      ><button class="btn btn-go" @click="go">{{ asked.edition ? 'Move the lane' : 'Go back' }}</button>
    </div>
  </Modal>
</template>
