<script setup lang="ts">
// One account: what it signs in with, and where it is signed in.
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { call, get, lacks, post, who, type Account, type NewToken } from '../../api'
import Act from '../../parts/Act.vue'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import Loading from '../../parts/Loading.vue'
import Mark from '../../parts/Mark.vue'
import Modal from '../../parts/Modal.vue'
import Moment from '../../parts/Moment.vue'
import Question from '../../parts/Question.vue'
import Trouble from '../../parts/Trouble.vue'
import Once from './Once.vue'
import Password from './Password.vue'
import { useRouter } from 'vue-router'

type Token = Account['tokens'][number]
type Session = Account['sessions'][number]
const props = defineProps<{ name: string }>()
const client = useQueryClient()
const router = useRouter()
const path = '/accounts/' + encodeURIComponent(props.name)
const q = useQuery({ queryKey: ['accounts', 'one', props.name], queryFn: () => get<Account>(path) })
const own = computed(() => props.name === who.value?.account)
const warden = computed(() => !lacks('accounts'))
// a warden makes none for another warden: what two decide is decided by two accounts
const mayMake = computed(() => own.value || (warden.value && q.data.value?.role !== 'warden'))

const tokens: Column<Token>[] = [
  { key: 'name', title: 'Token', value: (t) => t.name },
  { key: 'made', title: 'Created', value: (t) => t.created },
  { key: 'ends', title: 'Ends', value: (t) => t.ends },
  { key: 'used', title: 'Last used', value: (t) => t.used },
  { key: 'act', title: '' },
]
const sessions: Column<Session>[] = [
  { key: 'by', title: 'Signed in with', value: (s) => s.by },
  { key: 'from', title: 'From', class: 'mono', value: (s) => s.from },
  { key: 'agent', title: 'Browser', value: (s) => s.agent },
  { key: 'began', title: 'Since', value: (s) => s.began },
  { key: 'used', title: 'Last used', value: (s) => s.used },
  { key: 'ends', title: 'Ends', value: (s) => s.ends },
  { key: 'act', title: '' },
]

const error = ref<unknown>(null)
const made = ref<NewToken | null>(null)
const making = ref(false)
const label = ref('')
const ends = ref('')
const choosing = ref(false)
type Asked = { title: string; verb: string; text: string; act: () => Promise<unknown> }
const asked = ref<Asked | null>(null)

async function make() {
  error.value = null
  try {
    made.value = await post(path + '/tokens', {
      name: label.value.trim(),
      ends: ends.value ? ends.value + 'T00:00:00Z' : undefined,
    })
    making.value = false
    label.value = ends.value = ''
    client.invalidateQueries()
  } catch (e) {
    error.value = e
  }
}
async function act(f: () => Promise<unknown>) {
  error.value = null
  try {
    await f()
    client.invalidateQueries()
  } catch (e) {
    error.value = e
  }
  asked.value = null
}
const takeBack = (t: Token) =>
  (asked.value = {
    title: `Revoke token ${t.name}`,
    verb: 'Revoke',
    text: 'Programs that use the token are refused from now on. Sessions that were started with it end.',
    act: () => call('DELETE', `${path}/tokens/${t.id}`),
  })
const forget = () =>
  (asked.value = {
    title: 'Remove the password of ' + props.name,
    verb: 'Remove',
    text: 'The account can still sign in with its tokens. Sessions that were started with the password end.',
    act: () => call('DELETE', path + '/password'),
  })
const remove = () =>
  (asked.value = {
    title: 'Remove the account ' + props.name,
    verb: 'Remove account',
    text: 'Its tokens and sessions end now. The journal keeps what the account did.',
    act: () => call('DELETE', path).then(() => router.push('/accounts')),
  })
function giveRole(choice: HTMLSelectElement) {
  const role = choice.value
  choice.value = q.data.value?.role ?? role // it has the new one when that is recorded
  asked.value = {
    title: `Change the role of ${props.name} to ${role}`,
    verb: 'Change role',
    text: 'Its tokens, password and sessions end. You get a new token to hand over.',
    act: async () => {
      made.value = await call<NewToken>('PUT', path + '/role', { role })
    },
  }
}
</script>
<template>
  <Trouble :error="q.error.value" class="mb-4" />
  <Loading v-if="q.isPending.value" />
  <template v-if="q.data.value">
    <div class="mb-3 flex items-center gap-3">
      <h1>{{ name }}</h1>
      <span class="text-slate">{{ q.data.value.role }}, made <Moment :at="q.data.value.created" /></span>
      <span v-if="!own" class="ml-auto flex items-center gap-2">
        <label v-if="warden" class="flex items-center gap-2"
          >Role
          <select
            class="field !h-7 !w-auto"
            :value="q.data.value.role"
            @change="giveRole($event.target as HTMLSelectElement)"
          >
            <option v-for="r in ['viewer', 'operator', 'warden']" :key="r">{{ r }}</option>
          </select></label
        >
        <Act does="removeAccount" class="btn-stop" @click="remove">Remove</Act>
      </span>
    </div>
    <Trouble v-if="!making" :error="error" class="mb-4" />

    <h2 class="mb-2">Password</h2>
    <div class="panel mb-5 flex items-center gap-3 p-3">
      <Mark v-if="q.data.value.password" kind="good" word="chosen" />
      <span v-else class="text-slate">none; this account signs in with a token</span>
      <span class="ml-auto flex gap-2">
        <button v-if="own" class="btn" @click="choosing = true">
          {{ q.data.value.password ? 'Change password' : 'Set password' }}
        </button>
        <button v-if="q.data.value.password" class="btn" @click="forget">Remove password</button>
      </span>
    </div>

    <div class="mb-2 flex items-center">
      <h2>Tokens</h2>
      <button v-if="mayMake" class="btn ml-auto" @click="making = true">New token</button>
      <span v-else class="ml-auto text-slate">only this warden can create tokens for the account</span>
    </div>
    <DataTable
      :id="(t) => t.id"
      class="mb-5"
      :columns="tokens"
      :rows="q.data.value.tokens"
      empty="No tokens."
    >
      <template #made="{ row: t }"><Moment :at="t.created" /></template>
      <template #ends="{ row: t }"
        ><Mark v-if="t.ended" kind="warning" word="ended" /><Moment
          v-else-if="t.ends"
          :at="t.ends"
        /><template v-else>never</template></template
      >
      <template #used="{ row: t }"
        ><Moment v-if="t.used" :at="t.used" /><span v-else class="text-slate">not yet</span></template
      >
      <template #act="{ row: t }">
        <span class="flex justify-end"
          ><button class="btn !h-6" :aria-label="'Revoke token ' + t.name" @click="takeBack(t)">
            Revoke
          </button></span
        >
      </template>
    </DataTable>

    <h2 class="mb-2">Signed in</h2>
    <DataTable
      :id="(s) => s.id"
      :columns="sessions"
      :rows="q.data.value.sessions"
      empty="No browser is signed in."
    >
      <template #agent="{ row: s }"
        ><span class="block max-w-[44ch] text-slate">{{ s.agent }}</span></template
      >
      <template #began="{ row: s }"><Moment :at="s.began" /></template>
      <template #used="{ row: s }"><Moment :at="s.used" /></template>
      <template #ends="{ row: s }"><Moment :at="s.ends" /></template>
      <template #act="{ row: s }">
        <span class="flex justify-end"
          ><span v-if="s.current" class="text-slate">this session</span
          ><button v-else class="btn !h-6" @click="act(() => call('DELETE', `${path}/sessions/${s.id}`))">
            End
          </button></span
        >
      </template>
    </DataTable>

    <Modal :open="making" title="New token" @close="making = false">
      <form @submit.prevent="make">
        <label for="token-name" class="mb-1 block">Name of the token, such as its use</label>
        <input id="token-name" v-model="label" class="field" maxlength="64" autocomplete="off" required />
        <label for="token-ends" class="mt-3 mb-1 block">Ends on (UTC). Empty: never</label>
        <input id="token-ends" v-model="ends" class="field" type="date" />
        <Trouble :error="error" class="mt-3" />
        <div class="mt-4 flex justify-end gap-2">
          <button type="button" class="btn" @click="making = false">Cancel</button>
          <button class="btn btn-go" :disabled="!label.trim()">Create token</button>
        </div>
      </form>
    </Modal>
    <Question
      v-if="asked"
      open
      stop
      :title="asked.title"
      :verb="asked.verb"
      @close="asked = null"
      @yes="act(asked.act)"
    >
      <p>{{ asked.text }}</p>
    </Question>
    <Password
      v-if="choosing"
      :account="q.data.value"
      @close="choosing = false"
      @done="client.invalidateQueries()"
    />
    <Once v-if="made" :made="made" @close="made = null" />
  </template>
</template>
