<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, ref, useTemplateRef, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { get, lacks, post, who, type Key, type Page, type Source } from '../../api'
import { count } from '../../format'
import Count from '../../parts/Count.vue'
import Finger from '../../parts/Finger.vue'
import Loading from '../../parts/Loading.vue'
import Mark from '../../parts/Mark.vue'
import Modal from '../../parts/Modal.vue'
import New from '../../parts/New.vue'
import Term from '../../parts/Term.vue'
import Trouble from '../../parts/Trouble.vue'
import { useWindow } from '../../parts/window'
import Statement from './Statement.vue'
import Vouch from './Vouch.vue'
import Act from '../../parts/Act.vue'
import Lack from '../../parts/Lack.vue'
const client = useQueryClient()
const q = useQuery({ queryKey: ['keys'], queryFn: () => get<Page<Key>>('/keys') })
const sources = useQuery({ queryKey: ['sources'], queryFn: () => get<Page<Source>>('/sources') })
const keys = computed(() => q.data.value?.items ?? [])
// What is added by hand, the site signs.
const names = computed(() => (sources.data.value?.items ?? []).filter((s) => !s.managed).map((s) => s.name))
function state(k: Key, source: string): 'vouched' | 'barred' | 'needed' | 'waits' | '' {
  if (k.barred && k.needed_by.includes(source)) return 'barred'
  if (k.vouched.some((v) => v.source === source)) return 'vouched'
  if (k.waiting.some((v) => v.source === source)) return 'waits'
  return k.needed_by.includes(source) ? 'needed' : ''
}
const few = 12
const most = 40 // columns that are drawn at once
const text = ref('')
const waiting = ref(false)
const decides = (k: Key, n: string) => ['needed', 'waits'].includes(state(k, n))
const has = (k: Key, t: string) => (k.user_ids.join(' ') + k.fingerprint).toLowerCase().includes(t)
const rows = computed(() => {
  const t = text.value.trim().toLowerCase()
  return keys.value.filter(
    (k) =>
      (!waiting.value || names.value.some((n) => decides(k, n))) &&
      (!t || has(k, t) || names.value.some((n) => n.includes(t) && state(k, n))),
  )
})
const box = useTemplateRef<HTMLElement>('box')
const { shown, before, after } = useWindow(rows, box, 5)
// Sources about which somebody has to decide stand first.
const open = computed(() => {
  const described = new Set(names.value)
  return keys.value.flatMap((key) =>
    [...new Set([...key.needed_by, ...key.waiting.map((v) => v.source)])]
      .filter((n) => described.has(n) && decides(key, n))
      .map((source) => ({ key, source })),
  )
})
const undecided = computed(() => new Set(open.value.map((o) => o.source)))
const cols = computed(() => {
  const t = text.value.trim().toLowerCase()
  const any = !t || keys.value.some((k) => has(k, t))
  return names.value
    .filter((n) => (!waiting.value || undecided.value.has(n)) && (any || n.includes(t)))
    .sort((a, b) => Number(undecided.value.has(b)) - Number(undecided.value.has(a)))
    .slice(0, most)
})
const first = (k: Key, source: string) => k.waiting.find((v) => v.source === source)
const asked = ref<{ key: Key; source: string } | null>(null)
const decided = ref<string[]>([])
// Who comes to decide, where one decision is waiting, is asked at once.
const route = useRoute()
const router = useRouter()
watch(
  open,
  (all) => {
    if (route.query.decide === undefined || !q.data.value || !sources.data.value) return
    if (all.length === 1 && !lacks('vouch') && !first(all[0].key, all[0].source)) asked.value = all[0]
    router.replace({ query: { ...route.query, decide: undefined } })
  },
  { immediate: true },
)
const taking = ref(false)
const adding = ref(false)
const pasted = ref('')
const error = ref<unknown>(null)
async function add() {
  error.value = null
  try {
    await post('/keys', { data: btoa(pasted.value) })
    adding.value = false
    pasted.value = ''
    client.invalidateQueries()
  } catch (e) {
    error.value = e
  }
}
</script>
<template>
  <div class="mb-1 flex items-center gap-3">
    <h1>Keys</h1>
    <Act does="takeStatement" class="ml-auto" @click="taking = true"> Import statement </Act>
    <Act does="addKeys" @click="adding = true">Import key</Act>
    <New of="key" />
  </div>
  <p class="mb-4 text-slate">
    Which key may sign which source. A key may sign a source only after a warden has vouched<Term
      of="vouch"
    />
    for it. A barred<Term of="bar" /> key may sign nothing.
  </p>
  <Trouble :error="q.error.value" class="mb-4" />
  <Loading v-if="q.isPending.value" />
  <p v-if="decided.length" class="panel mb-3 flex items-center gap-3 px-3 py-2" role="status">
    <span>The decision for {{ decided.join(', ') }} is recorded.</span>
    <RouterLink v-for="n in decided" :key="n" :to="'/sources/' + n" class="btn ml-auto !h-6"
      >Continue with {{ n }}</RouterLink
    >
  </p>
  <div v-if="names.length > few || keys.length > few" class="mb-3 flex items-center gap-3">
    <input v-model="text" class="field !w-64" placeholder="Filter keys and sources" aria-label="Filter" />
    <label><input v-model="waiting" type="checkbox" /> only open decisions</label>
    <span class="ml-auto text-slate"
      >{{ rows.length }} of {{ count(keys.length, 'key') }}, {{ cols.length }} of
      {{ count(names.length, 'source') }}</span
    >
  </div>
  <div ref="box" class="panel overflow-auto" style="max-height: calc(100vh - 200px)">
    <Lack does="vouch" what="Deciding about a key" class="px-3 pt-3" />
    <table class="grid-table matrix">
      <thead>
        <tr>
          <th>Key</th>
          <th>Fingerprint</th>
          <th>Findings</th>
          <th v-for="n in cols" :key="n">{{ n }}</th>
        </tr>
      </thead>
      <tbody>
        <tr v-if="before" aria-hidden="true">
          <td :style="{ height: before + 'px', padding: 0 }" />
        </tr>
        <tr v-for="k in shown" :key="k.fingerprint">
          <td>
            <RouterLink
              :to="'/keys/' + k.fingerprint"
              class="font-medium whitespace-nowrap"
              :title="k.user_ids.join('; ')"
              >{{ k.user_ids[0]?.replace(/ *<[^>]*>$/, '') ?? 'no user ID' }}</RouterLink
            >
          </td>
          <td><Finger :of="k.fingerprint" brief /></td>
          <td><Count v-if="!k.site" :findings="k.findings" /></td>
          <td v-if="k.site" :colspan="cols.length" class="text-slate">
            the site key; it signs seals, tailored mirrors and house sources
          </td>
          <td v-for="n in k.site ? [] : cols" :key="n">
            <Mark
              v-if="state(k, n) === 'vouched'"
              kind="good"
              word="vouched"
              :title="k.vouched.find((v) => v.source === n)?.evidence"
            /><Mark v-else-if="state(k, n) === 'barred'" kind="error" word="barred" /><template
              v-else-if="state(k, n) === 'waits'"
            >
              <Mark
                v-if="first(k, n)?.by === who?.account || lacks('vouch')"
                kind="warning"
                word="second warden needed"
                :title="'vouched for by ' + first(k, n)?.by + ': ' + first(k, n)?.evidence" /><Act
                v-else
                dense
                does="vouch"
                class="!h-6"
                @click="asked = { key: k, source: n }"
              >
                <Mark kind="warning" :word="'second ' + first(k, n)?.by" /></Act></template
            ><Act
              v-else-if="state(k, n) === 'needed'"
              dense
              does="vouch"
              class="!h-6"
              @click="asked = { key: k, source: n }"
            >
              <Mark kind="warning" word="decide" /></Act
            ><span v-else class="text-line">·</span>
          </td>
        </tr>
        <tr v-if="after" aria-hidden="true">
          <td :style="{ height: after + 'px', padding: 0 }" />
        </tr>
      </tbody>
    </table>
  </div>
  <Vouch v-if="asked" :of="asked.key" :source="asked.source" @close="asked = null" @done="decided = $event" />
  <Statement v-if="taking" @close="taking = false" />
  <Modal :open="adding" title="Import key" wide @close="adding = false"
    ><p class="mb-2">
      Paste an armoured public key. Importing decides nothing: the key may sign nothing until a warden vouches
      for it.
    </p>
    <textarea v-model="pasted" class="field mono h-64" aria-label="Armoured key" spellcheck="false" /><Trouble
      :error="error"
      class="mt-3"
    />
    <div class="mt-4 flex justify-end gap-2">
      <button class="btn" @click="adding = false">Cancel</button
      ><button class="btn btn-go" :disabled="!pasted" @click="add">Import</button>
    </div></Modal
  >
</template>
