// The JSON Schema of the language, as far as a form asks of it.
import { useQuery } from '@tanstack/vue-query'
import { get } from '../../../api'
import { kinds, type Kind } from './document'

export interface Schema {
  type?: 'object' | 'array' | 'string' | 'integer' | 'boolean'
  description?: string
  enum?: string[]
  const?: string
  minimum?: number
  maximum?: number
  properties?: Record<string, Schema>
  additionalProperties?: Schema | boolean
  required?: string[]
  items?: Schema
  oneOf?: Schema[]
  'x-names'?: string // the kind of what it names
}

export const useSchema = () =>
  useQuery({ queryKey: ['schema'], queryFn: () => get<Schema>('/definitions/schema'), staleTime: Infinity })
export const useNames = () =>
  useQuery({
    queryKey: ['names'],
    queryFn: () => get<{ names: Record<string, string[]> }>('/definitions/names'),
  })

/** What an object of a kind can have. */
export function fieldsOf(schema: Schema, kind: Kind): Schema {
  const all = schema.properties?.[kinds[kind]]?.additionalProperties
  return typeof all === 'object' ? all : {}
}

/** The fields that are shown first; the others wait behind one button. */
export const first: Record<Kind, string[]> = {
  source: [
    'family',
    'standing',
    'upstreams',
    'release',
    'components',
    'architectures',
    'signed_by',
    'priority',
    'max_age',
  ],
  key: ['file', 'fingerprint', 'vouched_for', 'evidence'],
  mirror: ['copy', 'from', 'want', 'together', 'baseline', 'complete', 'keep', 'schedule'],
  list: ['family', 'file', 'packages'],
  lane: ['mirror'],
  group: ['family', 'release', 'architectures', 'lane', 'pins', 'roles'],
  proxy: ['url', 'credential', 'no_proxy', 'authority'],
  credential: ['kind', 'user', 'hosts'],
  authority: ['file', 'certificates'],
  rule: ['two_persons', 'rsa_bits', 'refuse'],
}
/** The same of what stands inside an object: an upstream, what is wanted. */
export const inside = [
  'source',
  'want',
  'url',
  'region',
  'packages',
  'provides',
  'sections',
  'groups',
  'lists',
  'list',
  'sources',
  'with',
  'versions',
  'except',
  'reason',
  'until',
]

/** A field's name as a word: signed_by is "signed by". */
export const words = (name: string) => name.replace(/_/g, ' ')
