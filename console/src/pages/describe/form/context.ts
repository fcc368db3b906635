// What the fields of a form share: the text that they are a side of, and what is known beside it.
import { inject, provide, type InjectionKey } from 'vue'
import type { Finding } from '../../../api'
import type { Path } from './document'

export interface Context {
  value: (path: Path) => unknown
  put: (path: Path, value: unknown) => void
  names: (kind: string) => string[]
  findings: (path: Path, within: boolean) => Finding[]
  file: (path: Path, file: File) => void
}
const key: InjectionKey<Context> = Symbol('form')
export const offer = (c: Context) => provide(key, c)
export function useForm(): Context {
  const c = inject(key)
  if (!c) throw new Error('a field stands in no form')
  return c
}
export const idOf = (path: Path) => 'field-' + path.join('-').replace(/[^\w-]/g, '_')
