<script setup lang="ts">
// Who may use the service: for wardens everybody, for others themselves.
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { get, lacks, post, who, type Account, type NewToken, type Page, type Site } from '../../api'
import Act from '../../parts/Act.vue'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import Loading from '../../parts/Loading.vue'
import Mark from '../../parts/Mark.vue'
import Modal from '../../parts/Modal.vue'
import Moment from '../../parts/Moment.vue'
import Take from '../../parts/Take.vue'
import Trouble from '../../parts/Trouble.vue'
import Once from './Once.vue'

const client = useQueryClient()
const all = computed(() => !lacks('accounts'))
const q = useQuery({
  queryKey: ['accounts', all],
  queryFn: async () =>
    all.value
      ? (await get<Page<Account>>('/accounts')).items
      : [await get<Account>('/accounts/' + encodeURIComponent(who.value!.account))],
})
const site = useQuery({ queryKey: ['site'], queryFn: () => get<Site>('/site') })
const used = (a: Account) =>
  [...a.tokens, ...a.sessions]
    .map((t) => t.used ?? '')
    .sort()
    .at(-1) || undefined
const columns: Column<Account>[] = [
  { key: 'name', title: 'Account', value: (a) => a.name },
  { key: 'role', title: 'Role', value: (a) => a.role },
  { key: 'since', title: 'Since', value: (a) => a.created },
  { key: 'tokens', title: 'Tokens', num: true, value: (a) => a.tokens.length },
  { key: 'password', title: 'Password', value: (a) => (a.password ? 'set' : 'none') },
  { key: 'sessions', title: 'Signed in', num: true, value: (a) => a.sessions.length },
  { key: 'used', title: 'Last used', value: used },
]
const adding = ref(false)
const name = ref('')
const role = ref('viewer')
const error = ref<unknown>(null)
const made = ref<NewToken | null>(null)
async function add() {
  error.value = null
  try {
    made.value = await post('/accounts', { name: name.value.trim(), role: role.value })
    adding.value = false
    name.value = ''
    client.invalidateQueries()
  } catch (e) {
    error.value = e
  }
}
</script>
<template>
  <div class="mb-1 flex items-center gap-3">
    <h1>Accounts</h1>
    <Take class="ml-auto" name="accounts" :rows="q.data.value ?? []" />
    <Act does="addAccount" @click="adding = true">New account</Act>
  </div>
  <p class="mb-4 max-w-[90ch] text-slate">
    A viewer can read. An operator can also edit definitions, build mirrors and move lanes. A warden can also
    decide about keys and manage accounts.
    <template v-if="site.data.value?.two_persons.length">
      A rule requires two wardens to vouch for a key of
      {{ site.data.value.two_persons.map((s) => (s === 'site' ? 'any source' : `${s} sources`)).join(', ') }}.
    </template>
    <template v-else-if="site.data.value">
      One warden can decide alone. To require two, add a rule (Definitions, New, rule).
    </template>
  </p>
  <Trouble :error="q.error.value" class="mb-4" />
  <Loading v-if="q.isPending.value" />
  <DataTable
    v-if="q.data.value"
    :id="(a) => a.name"
    :columns="columns"
    :rows="q.data.value"
    empty="No accounts."
  >
    <template #name="{ row: a }">
      <RouterLink :to="'/accounts/' + encodeURIComponent(a.name)">{{ a.name }}</RouterLink>
      <span v-if="a.name === who?.account" class="ml-1 text-slate">(you)</span>
    </template>
    <template #since="{ row: a }"><Moment :at="a.created" /></template>
    <template #password="{ row: a }">
      <Mark v-if="a.password" kind="good" word="set" /><span v-else class="text-slate">none</span>
    </template>
    <template #used="{ row: a }"
      ><Moment v-if="used(a)" :at="used(a)" /><span v-else class="text-slate">not yet</span></template
    >
  </DataTable>
  <p v-if="!all" class="mt-3 text-slate">Only wardens see the accounts of others.</p>
  <Modal :open="adding" title="New account" @close="adding = false">
    <form @submit.prevent="add">
      <label for="account-name" class="mb-1 block">Name</label>
      <input id="account-name" v-model="name" class="field" autocomplete="off" maxlength="64" required />
      <fieldset class="mt-3">
        <legend class="mb-1">Role</legend>
        <label v-for="r in ['viewer', 'operator', 'warden']" :key="r" class="mr-4"
          ><input v-model="role" type="radio" name="role" :value="r" /> {{ r }}</label
        >
      </fieldset>
      <Trouble :error="error" class="mt-3" />
      <div class="mt-4 flex justify-end gap-2">
        <button type="button" class="btn" @click="adding = false">Cancel</button>
        <button class="btn btn-go" :disabled="!name.trim()">Create account</button>
      </div>
    </form>
  </Modal>
  <Once v-if="made" :made="made" @close="made = null" />
</template>
