// A document as its text, seen as objects with fields: what the form and the text share is the
// text alone. A change through here leaves the comments, the order, and every object that it is
// not about as they were written.
import {
  Document,
  isCollection,
  isMap,
  isScalar,
  isSeq,
  parseDocument,
  type Pair,
  type Scalar,
  type YAMLMap,
} from 'yaml'

/** The kinds of things, in the order in which people come to them, and where each stands. */
export const kinds = {
  source: 'sources',
  key: 'keys',
  mirror: 'mirrors',
  list: 'lists',
  lane: 'lanes',
  group: 'groups',
  proxy: 'proxies',
  credential: 'credentials',
  authority: 'authorities',
  rule: 'rules',
} as const
export type Kind = keyof typeof kinds
export const isKind = (k: unknown): k is Kind => typeof k === 'string' && k in kinds

export type Path = (string | number)[]
export interface Named {
  kind: Kind
  name: string
}

const read = (text: string) => parseDocument(text, { keepSourceTokens: false, strict: false })

/** The objects of a text in the order in which they stand; null where it cannot be read. */
export function objects(text: string): Named[] | null {
  if (!text.trim()) return []
  const doc = read(text)
  if (doc.errors.length || !isMap(doc.contents)) return null
  const out: Named[] = []
  for (const kind of Object.keys(kinds) as Kind[]) {
    const all = doc.get(kinds[kind])
    if (!isMap(all)) continue
    for (const p of all.items) out.push({ kind, name: keyOf(p) })
  }
  return out
}

/** What stands at a path, as plain values. */
export function valueAt(text: string, path: Path): unknown {
  const node = read(text).getIn(path, true) as { toJSON?: () => unknown } | undefined
  return node?.toJSON?.()
}

/** Puts a value at a path; undefined takes the field away. */
export function put(text: string, path: Path, value: unknown): string {
  return change(text, (doc) => {
    if (value === undefined) {
      doc.deleteIn(path)
      return
    }
    const there = doc.getIn(path, true)
    if (isScalar(there) && (typeof value !== 'object' || value === null)) {
      there.type = undefined // quotes only where this value needs them
      there.value = value
      return
    }
    const node = doc.createNode(value)
    if (isSeq(node)) {
      node.flow = isSeq(there) ? there.flow : node.items.every(isScalar)
      if (isSeq(there)) {
        node.comment = there.comment
        node.items = node.items.map((n) => there.items.find((t) => same(t, n)) ?? n)
      }
    }
    // What stood there empty, written as {}, becomes a block with its first field.
    for (let n = 1; n < path.length; n++) {
      const around = doc.getIn(path.slice(0, n), true)
      if (isCollection(around) && !around.items.length) around.flow = false
    }
    doc.setIn(path, node)
  })
}

/** Adds an object without fields. */
export const add = (text: string, of: Named) => put(text, [kinds[of.kind], of.name], {})

/** Takes an object out, and the section with it that stands empty then. */
export function remove(text: string, of: Named): string {
  return change(text, (doc) => {
    doc.deleteIn([kinds[of.kind], of.name])
    const all = doc.get(kinds[of.kind])
    if (isMap(all) && !all.items.length) doc.delete(kinds[of.kind])
  })
}

/** Gives an object of this text another name; what names it in this text follows. */
export function rename(text: string, of: Named, name: string, follows: Path[]): string {
  return change(text, (doc) => {
    const all = doc.get(kinds[of.kind])
    const pair = isMap(all) && all.items.find((p) => keyOf(p) === of.name)
    if (pair && isScalar(pair.key)) pair.key.value = name
    for (const path of follows) {
      const at = doc.getIn(
        path.map((p) => (p === of.name ? name : p)),
        true,
      )
      if (isScalar(at) && at.value === of.name) at.value = name
    }
  })
}

const keyOf = (p: Pair<unknown, unknown>) => String(isScalar(p.key) ? p.key.value : p.key)
const plain = (n: unknown) => JSON.stringify((n as { toJSON?: () => unknown } | null)?.toJSON?.() ?? null)
const same = (a: unknown, b: unknown) => plain(a) === plain(b)

/** Changes a document, and keeps the very text of each object that says the same afterwards. */
function change(text: string, how: (doc: Document) => void): string {
  const before = read(text.trim() ? text : 'stockade: 1\n')
  const doc = text.trim() ? read(text) : new Document({ stockade: 1 })
  how(doc)
  const indent = /^( +)[^\s#-]/m.exec(text)?.[1].length ?? 2
  let out = doc.toString({
    lineWidth: 0,
    flowCollectionPadding: false,
    indent: Math.min(indent, 8),
    indentSeq: !/^( *)[^\s#][^\n]*:\n\1- /m.test(text),
  })
  const after = read(out)
  const spans: [number, number, string][] = []
  for (const [section, name, pair] of each(after)) {
    const was = pairAt(before, section, name)
    if (!was || !same(was.value, pair.value)) continue
    const [from, to] = span(pair)
    const [a, b] = span(was)
    if (to > from && b > a) spans.push([from, to, text.slice(a, b)])
  }
  for (const [from, to, old] of spans.sort((a, b) => b[0] - a[0])) {
    out = out.slice(0, from) + old.replace(/\n*$/, '') + /\n*$/.exec(out.slice(from, to))![0] + out.slice(to)
  }
  return out
}

function* each(doc: Document): Generator<[string, string, Pair<unknown, unknown>]> {
  for (const section of Object.values(kinds)) {
    const all = doc.get(section)
    if (isMap(all)) for (const p of all.items) yield [section, keyOf(p), p]
  }
}
function pairAt(doc: Document, section: string, name: string) {
  const all = doc.get(section) as YAMLMap | undefined
  return isMap(all) ? all.items.find((p) => keyOf(p) === name) : undefined
}
/** Where a name and what it stands for begin and end in the text. */
function span(p: Pair<unknown, unknown>): [number, number] {
  const key = (p.key as Scalar).range
  const value = (p.value as Scalar | null)?.range
  return key && value ? [key[0], value[2]] : [0, 0]
}
