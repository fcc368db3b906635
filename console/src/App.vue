<script setup lang="ts">
import {
  ArrowRightEndOnRectangleIcon,
  ClockIcon,
  CpuChipIcon,
  MagnifyingGlassIcon,
  MoonIcon,
  SunIcon,
} from '@heroicons/vue/24/outline'
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, onMounted, onUnmounted, ref, watch } from 'vue'
import { get, look, signOut, who, type Job, type Overview, type Page, type Subject, type Who } from './api'
import { whole } from './format'
import { connected, drawsFrom, listen } from './live'
import { rooms } from './rooms'
import Trouble from './parts/Trouble.vue'
import Findings from './parts/Findings.vue'
import SearchBox from './parts/SearchBox.vue'
import SignIn from './pages/sign-in/SignIn.vue'
import Mark from './parts/Mark.vue'
import Amend from './parts/Amend.vue'
import WayOut from './parts/WayOut.vue'
import Words from './parts/Words.vue'
import { asked } from './parts/way'
import { comparing, needs } from './tab'

const client = useQueryClient()
const ready = ref(false)
const error = ref<unknown>(null)
const gone = new AbortController()
onMounted(async () => {
  await look().catch((e) => (error.value = e))
  ready.value = true
  const changed = (what: Subject[]) =>
    client.invalidateQueries({ predicate: (q) => drawsFrom(String(q.queryKey[0]), what) })
  listen({ changed, back: () => client.invalidateQueries() }, gone.signal)
})
onUnmounted(() => gone.abort())
// A page stays, with what was typed, while its session has ended; it is for whom it was made.
const whose = ref('')
watch(who, (now) => {
  if (!now) return
  if (whose.value && whose.value !== now.account) location.reload()
  if (whose.value) client.invalidateQueries() // what failed while nobody was signed in
  whose.value = now.account
})
async function leave() {
  await signOut().catch((e) => (error.value = e))
  client.clear()
  whose.value = who.value?.account ?? ''
}

const shade = ref(
  localStorage.getItem('stockade-shade') ??
    (matchMedia('(prefers-color-scheme: dark)').matches ? 'dark' : 'light'),
)
watch(
  shade,
  (s) => {
    document.documentElement.dataset.shade = s
    localStorage.setItem('stockade-shade', s)
  },
  { immediate: true },
)

const jobs = useQuery({
  queryKey: ['jobs', 'running'],
  queryFn: () => get<Page<Job>>('/jobs?state=running'),
  enabled: computed(() => !!who.value),
})
// What contradicts the journal is an error on every page.
const journal = useQuery({
  queryKey: ['whoami'],
  queryFn: () => get<Who>('/whoami'),
  enabled: computed(() => !!who.value),
  refetchInterval: 60_000,
})
// What needs somebody is told by the tab on every page, also while nobody looks at it.
const overview = useQuery({
  queryKey: ['overview'],
  queryFn: () => get<Overview>('/overview'),
  enabled: computed(() => !!who.value),
  refetchInterval: 60_000,
  refetchIntervalInBackground: true,
})
watch(
  () => (who.value ? overview.data.value : undefined),
  (now) => (needs.value = { errors: now?.errors ?? 0, warnings: now?.warnings ?? 0 }),
)
const main = ref<HTMLElement | null>(null)
const page = ref<HTMLElement | null>(null)
const skip = () => main.value?.focus()
const searching = ref(false)
function key(e: KeyboardEvent) {
  const t = e.target as HTMLElement
  if (e.key === '/' && who.value && !['INPUT', 'TEXTAREA'].includes(t.tagName)) {
    e.preventDefault()
    searching.value = true
  }
}
onMounted(() => addEventListener('keydown', key))
onUnmounted(() => removeEventListener('keydown', key))
</script>

<template>
  <template v-if="ready">
    <SignIn v-if="!who" :class="whose ? 'fixed inset-0 z-50 bg-ground' : ''" />
    <Trouble v-if="error" :error="error" class="m-4" />
    <div v-if="who || whose" :inert="!who" class="grid h-full grid-cols-[176px_1fr] grid-rows-[44px_1fr]">
      <a
        href="#page"
        class="sr-only focus:not-sr-only focus:absolute focus:top-1 focus:left-1 focus:z-50 focus:bg-surface focus:px-3 focus:py-2"
        @click.prevent="skip"
        >Skip to the page</a
      >
      <header class="col-span-2 flex items-center gap-4 border-b border-line bg-surface px-4">
        <RouterLink
          to="/"
          class="flex items-center gap-2 text-[15px] font-semibold tracking-tight !text-ink hover:!no-underline"
          ><img src="/icon.svg" alt="" class="size-5" />Stockade</RouterLink
        >
        <button
          class="btn ml-auto w-80 justify-start !text-slate max-[1199px]:w-56"
          @click="searching = true"
        >
          <MagnifyingGlassIcon class="size-4" />Search everything<kbd
            class="mono ml-auto rounded border border-line px-1.5"
            >/</kbd
          >
        </button>
        <span role="status" class="whitespace-nowrap"
          ><Mark v-if="!connected" kind="error" word="not connected" /><Mark
            v-else
            kind="good"
            word="connected"
        /></span>
        <RouterLink to="/jobs" class="btn" :title="'Running jobs'"
          ><CpuChipIcon class="size-4" :class="jobs.data.value?.items.length ? 'text-tide' : ''" />{{
            jobs.data.value?.items.length ?? 0
          }}
          running</RouterLink
        >
        <button
          class="btn"
          :aria-label="shade === 'dark' ? 'Use light colours' : 'Use dark colours'"
          @click="shade = shade === 'dark' ? 'light' : 'dark'"
        >
          <SunIcon v-if="shade === 'dark'" class="size-4" /><MoonIcon v-else class="size-4" />
        </button>
        <button
          class="btn"
          :aria-pressed="whole"
          :aria-label="whole ? 'Show relative times' : 'Show absolute times'"
          @click="whole = !whole"
        >
          <ClockIcon class="size-4" />
        </button>
        <RouterLink to="/accounts" class="whitespace-nowrap !text-slate"
          ><b class="font-medium text-ink">{{ who?.account ?? whose }}</b
          >, {{ who?.role ?? 'signed out' }}</RouterLink
        >
        <button class="btn" aria-label="Sign out" @click="leave">
          <ArrowRightEndOnRectangleIcon class="size-4" />Sign out
        </button>
      </header>
      <nav class="flex flex-col gap-0.5 border-r border-line bg-surface p-2" aria-label="Rooms">
        <RouterLink
          v-for="r in rooms"
          :key="r.to"
          :to="r.to"
          class="flex h-8 items-center gap-2.5 rounded px-2.5 !text-slate hover:bg-raised hover:!no-underline"
          :class="
            $route.path === r.to ||
            (r.to !== '/' && $route.path.startsWith(r.to)) ||
            (r.to === '/mirrors' && $route.path.startsWith('/editions'))
              ? 'bg-tide-soft font-medium !text-tide'
              : ''
          "
        >
          <component :is="r.icon" class="size-4 shrink-0" />{{ r.text }}
        </RouterLink>
      </nav>
      <main
        id="page"
        ref="main"
        tabindex="-1"
        class="min-w-0 overflow-auto p-5"
        :class="comparing ? 'invisible' : ''"
      >
        <div v-if="journal.data.value?.journal.length" class="panel mb-4 border-flare" role="alert">
          <Findings :findings="journal.data.value.journal" link />
        </div>
        <div ref="page"><RouterView :key="$route.path" /></div>
        <Words :key="$route.path" :page="() => page" />
      </main>
      <SearchBox v-model="searching" />
      <WayOut v-if="asked && 'way' in asked" :way="asked.way" @close="asked = null" />
      <Amend v-else-if="asked" v-bind="asked.amend" @close="asked = null" />
    </div>
  </template>
</template>
