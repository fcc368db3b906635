// A way out of a refusal, written into the document of what is described otherwise then.
import { isKind, kinds, put, valueAt, type Path } from './form/document'

/** The text with the change: way is "source kelp", "except tide-dbg", "pin tide 2.0" or "leave tide". */
export function led(text: string, object: string, way: string): string {
  const [kind, name] = object.split('/')
  const [change, what, version] = way.split(' ')
  if (!isKind(kind) || !what) return text
  const at: Path = [kinds[kind], name]
  const list = (path: Path) => {
    const v = valueAt(text, path)
    return Array.isArray(v) ? (v as unknown[]) : []
  }
  const named = (w: unknown) => String(w).split(' ')[0] === what
  if (change === 'source') {
    const path = [...at, 'from']
    const there = list(path).some((f) => f === what || (f as { source?: string }).source === what)
    return there ? text : put(text, path, [...list(path), what])
  }
  if (change === 'pin') {
    const path = [...at, 'pins']
    return put(
      text,
      path,
      list(path).map((p) => (named(p) ? `${what} = ${version}` : p)),
    )
  }
  if (change === 'except') {
    let out = text
    const places: Path[] = [[...at, 'want', 'except']]
    list([...at, 'from']).forEach((_, i) => places.push([...at, 'from', i, 'want', 'except']))
    for (const path of places) {
      const left = list(path).filter((p) => !matches(String(p), what))
      if (left.length < list(path).length) out = put(out, path, left.length ? left : undefined)
    }
    return out
  }
  // One is left out of the sets that it is in.
  const sets = [...at, kind === 'group' ? 'roles' : 'together']
  const all = valueAt(text, sets)
  let out = text
  for (const key of Object.keys((all ?? {}) as object)) {
    const path = [...sets, Array.isArray(all) ? Number(key) : key]
    if (list(path).some(named))
      out = put(
        out,
        path,
        list(path).filter((w) => !named(w)),
      )
  }
  return out
}

/** Whether a pattern with * and ? is about a name. */
function matches(pattern: string, name: string) {
  const escaped = pattern
    .replace(/[.+^${}()|\\]/g, '\\$&')
    .replace(/\*/g, '.*')
    .replace(/\?/g, '.')
  return new RegExp('^' + escaped + '$').test(name)
}
