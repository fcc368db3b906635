// What is being described. The service keeps it for the account: it outlives the page and the
// window, and is there in another one.
import { nextTick, reactive, ref, watch } from 'vue'
import { call, get, Trouble, who, type Kept } from '../../api'

export interface Draft {
  documents: { name: string; text: string }[]
  files: Record<string, string> // that documents name, in base64
  from: string // what it was made of, in words
  open: number
  since: string // the tag of the description when it was begun
}
const empty = (): Draft => ({
  documents: [{ name: 'site.yaml', text: '' }],
  files: {},
  from: '',
  open: 0,
  since: '',
})

export const draft = reactive<Draft>(empty())
/** Why it is not kept by the service now; it stays in this window. */
export const unkept = ref<unknown>(null)
/** Another window kept something meanwhile: one of the two has to be taken. */
export const crossed = ref(false)
export const keptAt = ref('')
let version = 0
let whose = ''
let quiet = false // what is taken from the service need not be kept again

/** Takes what the service keeps, once for each account that signs in. */
export async function load(): Promise<void> {
  if (whose === who.value?.account) return
  whose = who.value?.account ?? ''
  await take()
}
/** Takes what is kept in place of what this window has. */
export async function take(): Promise<void> {
  const kept = await get<Kept>('/draft')
  version = kept.version
  crossed.value = false
  quiet = true
  Object.assign(draft, empty(), kept.documents.length ? kept : {})
  keptAt.value = kept.at ?? ''
  await nextTick()
  quiet = false
}
/** Keeps what this window has over what another one kept. */
export async function keepMine(): Promise<void> {
  version = (await get<Kept>('/draft')).version
  crossed.value = false
  await keep()
}

let pending = 0
const pause = 700 // after the last key
watch(draft, () => {
  if (quiet) return
  clearTimeout(pending)
  pending = window.setTimeout(keep, pause)
})
let keeping: Promise<void> = Promise.resolve()
function keep(): Promise<void> {
  clearTimeout(pending)
  pending = 0
  keeping = keeping.then(async () => {
    if (crossed.value) return
    const { documents, files, from, open, since } = draft
    try {
      const kept = await call<Kept>('PUT', '/draft', { documents, files, from, open, since, version })
      version = kept.version
      keptAt.value = kept.at ?? ''
      unkept.value = null
    } catch (e) {
      if (e instanceof Trouble && e.problem.type === 'urn:stockade:draft-crossed') crossed.value = true
      else unkept.value = e
    }
  })
  return keeping
}
addEventListener('pagehide', () => {
  if (pending) keep()
})

export function begin(with_: Partial<Draft> = {}) {
  Object.assign(draft, empty(), with_)
}

/** What was dropped or chosen: files with their paths, folders gone into. */
export async function dropped(list: DataTransferItemList): Promise<Record<string, File>> {
  const out: Record<string, File> = {}
  async function take(e: FileSystemEntry, path: string): Promise<void> {
    if (e.isFile) {
      out[path + e.name] = await new Promise((ok, no) => (e as FileSystemFileEntry).file(ok, no))
      return
    }
    const reader = (e as FileSystemDirectoryEntry).createReader()
    for (;;) {
      const some = await new Promise<FileSystemEntry[]>((ok, no) => reader.readEntries(ok, no))
      if (!some.length) return
      for (const x of some) await take(x, path + e.name + '/')
    }
  }
  const entries = [...list].map((i) => i.webkitGetAsEntry()).filter((e) => e !== null)
  for (const e of entries) await take(e, '')
  return out
}

export async function base64(f: File): Promise<string> {
  const url: string = await new Promise((ok, no) => {
    const r = new FileReader()
    r.onload = () => ok(String(r.result))
    r.onerror = () => no(new Error('the file ' + f.name + ' cannot be read'))
    r.readAsDataURL(f)
  })
  return url.slice(url.indexOf(',') + 1)
}
