<script setup lang="ts">
// The form side of a document: its objects, and the fields of the one that is open.
import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/vue'
import { computed, nextTick, ref, watch } from 'vue'
import type { Finding } from '../../../api'
import Mark from '../../../parts/Mark.vue'
import { offer } from './context'
import {
  add,
  kinds,
  objects,
  put,
  remove,
  rename,
  valueAt,
  type Kind,
  type Named,
  type Path,
} from './document'
import Act from '../../../parts/Act.vue'
import Fields from './Fields.vue'
import Rename from './Rename.vue'
import { fieldsOf, first, useNames, useSchema, type Schema } from './schema'

const text = defineModel<string>({ required: true })
const props = defineProps<{ findings: Finding[]; fresh?: Kind }>()
const emit = defineEmits<{ file: [path: string, file: File]; begun: [] }>()
const schema = useSchema()
const names = useNames()

const all = computed(() => objects(text.value))
const open = ref<Named | null>(null)
const at = computed<Path>(() => (open.value ? [kinds[open.value.kind], open.value.name] : []))
const fields = computed<Schema>(() =>
  schema.data.value && open.value ? fieldsOf(schema.data.value, open.value.kind) : {},
)
const own = (f: Finding) => f.field ?? ''
const prefix = computed(() => at.value.join('.'))
/** What is told of the object itself, and of fields in it that there are none of. */
const about = computed(() =>
  props.findings.filter((f) => {
    if (own(f) === prefix.value) return true
    const field =
      own(f).startsWith(prefix.value + '.') &&
      own(f)
        .slice(prefix.value.length + 1)
        .split('.')[0]
    return field && !(field in (fields.value.properties ?? {}))
  }),
)
const worst = (o: Named) => {
  const p = kinds[o.kind] + '.' + o.name
  const on = props.findings.filter((f) => own(f) === p || own(f).startsWith(p + '.'))
  return on.find((f) => f.severity === 'error') ? ' ✕' : on.find((f) => f.severity === 'warning') ? ' !' : ''
}
offer({
  value: (path) => valueAt(text.value, path),
  put: (path, value) => (text.value = put(text.value, path, value)),
  names(kind) {
    const here = (all.value ?? []).filter((o) => o.kind === kind).map((o) => o.name)
    return [...new Set([...here, ...(names.data.value?.names[kind] ?? [])])].sort()
  },
  findings(path, within) {
    const p = path.join('.')
    return props.findings.filter((f) => own(f) === p || (within && own(f).startsWith(p + '.')))
  },
  file(path, file) {
    const name = (open.value ? kinds[open.value.kind] : 'keys') + '/' + file.name
    emit('file', name, file)
    text.value = put(text.value, path, name)
  },
})

// One that is not there any more is not open; one is open while there is any.
watch(
  all,
  (now) => {
    if (!now || now.some((o) => o.kind === open.value?.kind && o.name === open.value.name)) return
    open.value = now[0] ?? null
  },
  { immediate: true },
)

const making = ref<Kind | null>(null)
const name = ref('')
const box = ref<HTMLInputElement | null>(null)
async function begin(kind: Kind) {
  making.value = kind
  name.value = ''
  await nextTick()
  box.value?.focus()
}
watch(
  () => props.fresh,
  (kind) => {
    if (!kind) return
    begin(kind)
    emit('begun')
  },
  { immediate: true },
)
const taken = computed(() =>
  (all.value ?? []).some((o) => o.kind === making.value && o.name === name.value.trim()),
)
function made() {
  if (!making.value || !name.value.trim() || taken.value) return
  const of = { kind: making.value, name: name.value.trim() }
  text.value = add(text.value, of)
  open.value = of
  making.value = null
}
function away() {
  if (open.value) text.value = remove(text.value, open.value)
}

// What names an object follows when it is called another way, in this text.
function references(s: Schema, path: Path, value: unknown, kind: Kind): Path[] {
  if (s['x-names']) return s['x-names'] === kind ? [path] : []
  if (Array.isArray(value)) return value.flatMap((v, i) => references(s.items ?? {}, [...path, i], v, kind))
  const group = s.oneOf?.find((o) => o.properties) ?? s
  if (typeof value !== 'object' || value === null)
    return s.oneOf && group.required
      ? references(group.properties![group.required[0]], path, value, kind)
      : []
  const fields = value as Record<string, unknown>
  return Object.keys(fields).flatMap((n) => {
    const inner =
      group.properties?.[n] ??
      (typeof group.additionalProperties === 'object' ? group.additionalProperties : undefined)
    return inner ? references(inner, [...path, n], fields[n], kind) : []
  })
}
const recorded = computed(
  () => !!open.value && (names.data.value?.names[open.value.kind] ?? []).includes(open.value.name),
)
const renaming = ref<Named | null>(null)
function wasRenamed(to: string) {
  renaming.value = null
  renamed(to)
}
function renamed(to: string) {
  to = to.trim()
  if (!open.value || !to || to === open.value.name || !schema.data.value) return
  if (all.value?.some((o) => o.kind === open.value?.kind && o.name === to)) return
  const follows = references(schema.data.value, [], valueAt(text.value, []), open.value.kind)
  const is = { kind: open.value.kind, name: to }
  const next = rename(text.value, open.value, to, follows)
  open.value = is
  text.value = next
}
// The name as it is being typed: it stays while other things on the page change.
const called = ref('')
watch(open, (o) => (called.value = o?.name ?? ''), { immediate: true })
const chosen = computed({
  get: () => (open.value ? open.value.kind + ' ' + open.value.name : ''),
  set: (v) => {
    const [kind, n] = v.split(' ')
    open.value = { kind: kind as Kind, name: n }
  },
})
</script>
<template>
  <div class="panel max-h-[calc(100vh-190px)] min-h-64 overflow-auto">
    <div class="sticky top-0 z-10 flex items-center gap-2 border-b border-line bg-surface px-3 py-2">
      <select v-if="all?.length" v-model="chosen" class="field min-w-0 flex-1" aria-label="Object to edit">
        <option v-for="o in all" :key="o.kind + ' ' + o.name" :value="o.kind + ' ' + o.name">
          {{ o.kind }} {{ o.name }}{{ worst(o) }}
        </option>
      </select>
      <span v-else class="flex-1 text-slate">No objects yet.</span>
      <Menu v-if="all" as="div" class="relative">
        <MenuButton class="btn">New …</MenuButton>
        <MenuItems class="panel absolute right-0 z-20 mt-1 w-36 py-1 shadow-lg outline-none">
          <MenuItem v-for="k in Object.keys(kinds) as Kind[]" :key="k" v-slot="{ active }">
            <button
              class="block w-full px-3 py-1 text-left"
              :class="active ? 'bg-raised' : ''"
              @click="begin(k)"
            >
              {{ k }}
            </button>
          </MenuItem>
        </MenuItems>
      </Menu>
    </div>
    <p v-if="!all" class="px-3 py-2">
      <Mark kind="error" word="cannot be read" /> The text is not a valid document. Correct the marked line;
      then the form works again.
    </p>
    <form
      v-if="making"
      class="flex items-center gap-2 border-b border-line bg-raised px-3 py-2"
      @submit.prevent="made"
    >
      <label class="shrink-0" for="new-name">
        {{ making === 'rule' ? 'Standing that the rule is for, or site' : 'Name of the new ' + making }}
      </label>
      <input
        id="new-name"
        ref="box"
        v-model="name"
        class="field mono min-w-0"
        autocomplete="off"
        spellcheck="false"
        @keydown.esc="making = null"
      />
      <button class="btn btn-go" :disabled="!name.trim() || taken">Add</button>
      <button type="button" class="btn" @click="making = null">Cancel</button>
    </form>
    <p v-if="taken" class="px-3 py-1"><Mark kind="error" /> A {{ making }} of that name already exists.</p>
    <div v-if="all && open" class="px-3 py-1">
      <div class="grid grid-cols-[112px_minmax(0,1fr)] gap-x-3 py-1.5">
        <label for="object-name" class="pt-1.5 text-slate">Name</label>
        <div class="flex flex-wrap gap-2">
          <input
            id="object-name"
            v-model="called"
            class="field mono"
            :class="recorded ? '' : '!w-auto min-w-0 flex-1'"
            autocomplete="off"
            spellcheck="false"
            @change="renamed(called)"
          />
          <Act v-if="recorded" does="rename" class="!h-[30px]" type="button" @click="renaming = open">
            Rename everywhere
          </Act>
          <button type="button" class="btn !h-[30px]" @click="away">Remove from document</button>
        </div>
      </div>
      <p v-for="f in about" :key="f.code + f.text" class="py-0.5 break-words">
        <Mark :kind="f.severity" /> {{ f.text }}
        <span v-if="f.way_out" class="text-slate">Fix: {{ f.way_out }}</span>
      </p>
      <Rename v-if="renaming" :of="renaming" @close="renaming = null" @done="wasRenamed" />
      <Fields :key="chosen" :schema="fields" :path="at" :first="first[open.kind]" />
    </div>
  </div>
</template>
