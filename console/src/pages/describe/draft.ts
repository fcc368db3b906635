// What is being described: it outlives leaving the page, and reloading it in this window.
import { reactive, watch } from 'vue'

export interface Draft {
  documents: { name: string; text: string }[]
  files: Record<string, string> // that documents name, in base64
  from: string // what it was made of, in words
  open: number
  since: string // the tag of the description when it was begun
}
const place = 'stockade-draft'
const empty = (): Draft => ({
  documents: [{ name: 'site.yaml', text: '' }],
  files: {},
  from: '',
  open: 0,
  since: '',
})

function kept(): Draft {
  try {
    const d = JSON.parse(sessionStorage.getItem(place) ?? '') as Draft
    return d.documents.length ? { ...empty(), ...d } : empty()
  } catch {
    return empty()
  }
}
export const draft = reactive<Draft>(kept())
watch(draft, (d) => {
  try {
    sessionStorage.setItem(place, JSON.stringify(d))
  } catch {
    // too large to be kept: it stays while the window does
  }
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
