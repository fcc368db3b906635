<script setup lang="ts">
// The keys of the site: which signs, which follows, and what rests on the older one.
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { get, post, type Site } from '../../api'
import Finger from '../../parts/Finger.vue'
import Findings from '../../parts/Findings.vue'
import Mark from '../../parts/Mark.vue'
import Moment from '../../parts/Moment.vue'
import Reason from '../../parts/Reason.vue'
import Trouble from '../../parts/Trouble.vue'
import Act from '../../parts/Act.vue'

const client = useQueryClient()
const q = useQuery({ queryKey: ['site'], queryFn: () => get<Site>('/site') })
const s = computed(() => q.data.value)
const asking = ref<'renew' | 'retire' | ''>('')
const typed = ref('')
const lasts = ref('90d')
const older = computed(() => s.value?.keys[0].fingerprint ?? '')
const marks: Record<string, ['good' | 'note' | 'none', string]> = {
  signs: ['good', 'signs'],
  follows: ['note', 'next key; signs together with the current one'],
  former: ['none', 'former'],
}
const renew = (reason: string) => post('/site/renew-key', { for: lasts.value, reason })
const retire = (reason: string) => post('/site/retire-key', { fingerprint: typed.value, reason })
function done() {
  asking.value = ''
  typed.value = ''
  client.invalidateQueries()
}
</script>
<template>
  <Trouble :error="q.error.value" />
  <section v-if="s">
    <div class="mb-1.5 flex items-center gap-2">
      <h2 class="mr-auto">Site keys</h2>
      <Act v-if="!s.renewal" does="renewSiteKey" @click="asking = 'renew'"> Renew site key </Act>
      <Act v-else does="retireSiteKey" class="btn-stop" @click="asking = 'retire'"> Retire older key </Act>
    </div>
    <div class="panel overflow-x-auto">
      <table class="grid-table">
        <thead>
          <tr>
            <th>Key</th>
            <th>Fingerprint</th>
            <th>Made</th>
            <th>State</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="k in s.keys" :key="k.fingerprint">
            <td>
              <RouterLink :to="'/keys/' + k.fingerprint">{{ k.user_id }}</RouterLink>
            </td>
            <td><Finger :of="k.fingerprint" /></td>
            <td><Moment :at="k.created" /></td>
            <td><Mark :kind="marks[k.state][0]" :word="marks[k.state][1]" /></td>
          </tr>
        </tbody>
      </table>
      <p v-if="s.renewal" class="border-t border-line px-3 py-1.5 text-slate">
        Both sign until <Moment :at="s.renewal.until" />, since <Moment :at="s.renewal.since" /> by
        {{ s.renewal.by }}: {{ s.renewal.reason }}
      </p>
      <Findings v-if="s.findings.length" :findings="s.findings" />
      <p v-for="r in s.resting" :key="r.lane" class="border-t border-line px-3 py-1.5">
        <RouterLink to="/lanes">{{ r.lane }}</RouterLink> shows
        <RouterLink :to="'/editions/' + r.edition" class="mono">{{ r.edition }}</RouterLink>: of
        {{ r.sources.join(', ') }} there, the older key alone signed what machines check<template
          v-if="r.groups.length"
          >; {{ r.groups.join(', ') }} follow it</template
        >.
      </p>
    </div>
    <Reason
      v-if="asking === 'renew'"
      title="Renew site key"
      verb="Create key"
      :act="renew"
      @close="asking = ''"
      @done="done"
    >
      <p class="mb-2">
        This creates a second key, certified by the current one. The seals of all editions then have both
        signatures, and new files for machines contain both keys. Every machine must get new files before the
        older key is retired.
      </p>
      <label for="lasts" class="mb-1 block">How long both keys sign</label>
      <input id="lasts" v-model="lasts" class="field !w-24" />
    </Reason>
    <Reason
      v-if="asking === 'retire'"
      title="Retire older key"
      verb="Retire key"
      :act="retire"
      @close="asking = ''"
      @done="done"
    >
      <p>
        This deletes the secret part of the older key. A machine that got no new files since the renewal
        rejects what is built from now on.
      </p>
      <p v-if="s.house_packages" class="mt-2">
        {{ s.house_packages }} packages of house sources are signed anew, where their family signs packages.
      </p>
      <p v-if="s.resting.length" class="mt-2">
        <Mark kind="warning" word="still depends on it" />: {{ s.resting.map((r) => r.lane).join(', ') }}.
        Their machines keep trusting it until you build these mirrors again and move the lanes.
      </p>
      <label for="typed" class="mt-3 mb-1 block">Whole fingerprint of the older key, which ends</label>
      <input id="typed" v-model="typed" class="field mono" :placeholder="'… ' + older.slice(-4)" />
    </Reason>
  </section>
</template>
