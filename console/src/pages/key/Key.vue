<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { get, post, type Dependents, type Key } from '../../api'
import { absolute, count } from '../../format'
import Finger from '../../parts/Finger.vue'
import Findings from '../../parts/Findings.vue'
import Loading from '../../parts/Loading.vue'
import Mark from '../../parts/Mark.vue'
import Moment from '../../parts/Moment.vue'
import Reason from '../../parts/Reason.vue'
import Trouble from '../../parts/Trouble.vue'
import Renewal from './Renewal.vue'
import Signed from './Signed.vue'
import Standing from '../../parts/Standing.vue'
import Vouch from '../keys/Vouch.vue'
import Act from '../../parts/Act.vue'
const props = defineProps<{ fingerprint: string }>()
const client = useQueryClient()
const q = useQuery({
  queryKey: ['key', props.fingerprint],
  queryFn: () => get<Key>('/keys/' + props.fingerprint),
})
const k = computed(() => q.data.value)
const parts = computed(() =>
  k.value
    ? [{ role: 'primary', ...k.value.primary }, ...k.value.subkeys.map((s) => ({ role: 'subkey', ...s }))]
    : [],
)
const day = (t?: string) => absolute(t).slice(0, 10)
// The time line runs from the first part's beginning to the last end, or two years on.
const line = computed(() => {
  const from = Math.min(...parts.value.map((p) => Date.parse(p.created)))
  const to = Math.max(Date.now() + 63e9, ...parts.value.map((p) => (p.expires ? Date.parse(p.expires) : 0)))
  const x = (t: number) => (100 * (t - from)) / (to - from)
  return {
    now: x(Date.now()),
    bars: parts.value.map((p) => ({
      left: x(Date.parse(p.created)),
      right: p.expires ? x(Date.parse(p.expires)) : 100,
      open: !p.expires,
    })),
  }
})
const brief = 12 // so many editions, or lanes, are named at once
const whole = ref(false)
const vouching = ref('')
const asking = ref<'bar' | 'retire' | 'withdraw' | ''>('')
const about = ref('') // the source that a vouch is taken back for
const act = (reason: string) =>
  post(`/keys/${props.fingerprint}/${asking.value}`, {
    fingerprint: props.fingerprint,
    source: about.value || undefined,
    reason,
  })
const stands = ref<Dependents | null>(null)
async function ask(what: 'bar' | 'retire' | 'withdraw', source = '') {
  if (what === 'bar') stands.value = await get<Dependents>('/dependents/key/' + props.fingerprint)
  asking.value = what
  about.value = source
}
function done() {
  asking.value = ''
  client.invalidateQueries()
}
</script>
<template>
  <Trouble :error="q.error.value" />
  <Loading v-if="q.isPending.value" />
  <div v-if="k" class="space-y-5">
    <div class="flex items-center gap-3">
      <h1>{{ k.user_ids[0] ?? 'Key' }}</h1>
      <Mark v-if="k.barred" kind="error" word="barred" /><Mark
        v-else-if="k.site"
        kind="note"
        word="site key"
      /><Mark v-if="k.former" kind="none" word="former site key" /><Mark
        v-if="k.retired"
        kind="none"
        word="retired"
      />
      <div class="ml-auto flex gap-2">
        <Act v-if="k.idle" does="retireKey" @click="ask('retire')">Retire</Act>
        <Act v-if="!k.site && !k.barred" does="bar" class="btn-stop" @click="ask('bar')">Bar this key</Act>
      </div>
    </div>
    <section class="panel p-3">
      <dl class="facts">
        <dt>Fingerprint</dt>
        <dd><Finger :of="k.fingerprint" /></dd>
        <dt>User IDs</dt>
        <dd>{{ k.user_ids.join('; ') }}</dd>
        <template v-if="k.names.length"
          ><dt>Names</dt>
          <dd>{{ k.names.join(', ') }}</dd></template
        ><template v-if="k.added_by"
          ><dt>Imported</dt>
          <dd><Moment :at="k.added" /> by {{ k.added_by }}</dd></template
        ><template v-if="k.barred"
          ><dt>Barred</dt>
          <dd><Moment :at="k.barred.at" /> by {{ k.barred.by }}: {{ k.barred.reason }}</dd></template
        >
      </dl>
    </section>
    <section>
      <h2 class="mb-1.5">Parts and their validity</h2>
      <div class="panel overflow-x-auto">
        <table class="grid-table">
          <thead>
            <tr>
              <th>Part</th>
              <th>Fingerprint</th>
              <th>Kind</th>
              <th>Signs</th>
              <th>Made</th>
              <th>Ends</th>
              <th class="w-64">Time</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="(p, i) in parts" :key="p.fingerprint">
              <td>{{ p.role }}</td>
              <td><Finger :of="p.fingerprint" brief /></td>
              <td>{{ p.algorithm }} {{ p.algorithm === 'RSA' ? p.bits : '' }}</td>
              <td>{{ p.can_sign ? 'yes' : 'no' }}</td>
              <td>{{ day(p.created) }}</td>
              <td>
                <Mark v-if="p.revoked" kind="error" :word="'revoked: ' + p.reason" /><template v-else>{{
                  p.expires ? day(p.expires) : 'never'
                }}</template>
              </td>
              <td>
                <div class="relative h-3">
                  <span
                    class="absolute top-1 h-1.5 rounded-sm"
                    :class="p.revoked ? 'bg-flare' : 'bg-tide'"
                    :style="{ left: line.bars[i].left + '%', right: 100 - line.bars[i].right + '%' }"
                  /><span
                    class="absolute top-0 h-3.5 w-px bg-ink"
                    :style="{ left: line.now + '%' }"
                    title="now"
                  />
                </div>
              </td>
            </tr>
          </tbody>
        </table>
      </div>
    </section>
    <section>
      <h2 class="mb-1.5">Decisions</h2>
      <div class="panel overflow-x-auto">
        <table v-if="k.vouched.length || k.needed_by.length" class="grid-table">
          <thead>
            <tr>
              <th>Source</th>
              <th>Decision</th>
              <th>Evidence</th>
              <th>By</th>
              <th>When</th>
              <th></th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="v in k.vouched" :key="v.source">
              <td>
                <span v-if="v.source.startsWith('site/')">the site {{ v.source.slice(5) }}</span>
                <RouterLink v-else :to="'/sources/' + v.source">{{ v.source }}</RouterLink>
              </td>
              <td>
                <Mark
                  :kind="k.barred ? 'none' : 'good'"
                  :word="k.barred ? 'vouched before it was barred' : 'vouched'"
                />
              </td>
              <td>{{ v.evidence }}</td>
              <td>{{ v.by }}</td>
              <td><Moment :at="v.at" /></td>
              <td class="num">
                <Act v-if="!k.barred" does="withdraw" class="!h-6" @click="ask('withdraw', v.source)">
                  Withdraw
                </Act>
              </td>
            </tr>
            <tr v-for="n in k.needed_by.filter((n) => !k!.vouched.some((v) => v.source === n))" :key="n">
              <td>{{ n }}</td>
              <td><Mark kind="warning" word="none yet" /></td>
              <td colspan="4">
                <Act v-if="!k.barred" does="vouch" class="!h-6" @click="vouching = n">Decide</Act>
              </td>
            </tr>
          </tbody>
        </table>
        <p v-else class="px-3 py-2 text-slate">No source uses this key.</p>
      </div>
    </section>
    <section v-if="k.findings.length">
      <h2 class="mb-1.5">Findings</h2>
      <div class="panel"><Findings :findings="k.findings" /></div>
    </section>
    <Vouch v-if="vouching" :of="k" :source="vouching" @close="vouching = ''" />
    <Signed v-if="!k.site && !k.former" :fingerprint="k.fingerprint" />
    <section v-if="k.rests_on.length">
      <h2 class="mb-1.5">Depends on it</h2>
      <p class="panel px-3 py-2">
        <template v-for="(e, n) in whole ? k.rests_on : k.rests_on.slice(0, brief)" :key="e"
          ><template v-if="n">, </template
          ><RouterLink :to="'/editions/' + e" class="mono">{{ e }}</RouterLink></template
        >
        <span class="ml-3 text-slate">{{
          k.lanes.length
            ? 'on lanes ' +
              (whole || k.lanes.length <= brief ? k.lanes.join(', ') : count(k.lanes.length, 'lane'))
            : 'no lane shows any of them'
        }}</span>
        <button
          v-if="k.rests_on.length > brief || k.lanes.length > brief"
          class="ml-3 text-tide underline"
          :aria-expanded="whole"
          @click="whole = !whole"
        >
          {{ whole ? 'Fewer' : `All ${k.rests_on.length} editions and ${count(k.lanes.length, 'lane')}` }}
        </button>
      </p>
    </section>
    <Renewal v-if="k.site || k.former" />
    <section v-if="k.history.length">
      <h2 class="mb-1.5">History</h2>
      <div class="panel overflow-x-auto">
        <table class="grid-table">
          <thead>
            <tr>
              <th>When</th>
              <th>Action</th>
              <th>Source</th>
              <th>By</th>
              <th>Reason</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="(h, n) in k.history" :key="n">
              <td><Moment :at="h.at" /></td>
              <td class="mono">{{ h.action }}</td>
              <td>{{ h.source || '–' }}</td>
              <td>{{ h.by }}</td>
              <td>{{ h.text }}</td>
            </tr>
          </tbody>
        </table>
      </div>
    </section>
    <Reason
      v-if="asking === 'bar'"
      title="Bar this key"
      verb="Bar key"
      :act="act"
      @close="asking = ''"
      @done="done"
    >
      <p>
        Stockade then accepts nothing that this key signed, for any source. You cannot undo this; vouch for a
        new key of its owner instead.
      </p>
      <p class="mt-2 mb-1">In use by:</p>
      <Standing v-if="stands" :of="stands" />
    </Reason>
    <Reason
      v-if="asking === 'withdraw'"
      :title="'Withdraw the vouch for ' + about"
      verb="Withdraw vouch"
      :act="act"
      @close="asking = ''"
      @done="done"
    >
      <p>
        Stockade then accepts nothing that this key signs for {{ about }}. Other sources are not affected. To
        undo this, vouch again with new evidence.
      </p>
    </Reason>
    <Reason
      v-if="asking === 'retire'"
      title="Retire this key"
      verb="Retire key"
      :act="act"
      @close="asking = ''"
      @done="done"
    >
      <p>Lists omit it. Its history is kept, and a bar stays in force.</p>
    </Reason>
  </div>
</template>
