// The one place that talks to the service. Types come from its OpenAPI document.
import { ref } from 'vue'
import type { components, operations } from './api.d'

type S = components['schemas']
export type Finding = S['Finding']
export type Source = S['Source']
export type Key = S['Key']
export type Mirror = S['Mirror']
export type Edition = S['Edition']
export type EditionDetail = S['EditionDetail']
export type Credential = S['Credential']
export type Chain = S['Chain']
export type Imported = S['Imported']
export type Lane = S['Lane']
export type Site = S['Site']
export type Job = S['Job']
export type Progress = S['Event']
export type Item = S['Item']
export type PackageChange = S['PackageChange']
export type Difference = S['Difference']
export type LaneDifference = S['LaneDifference']
export type HousePackage = S['HousePackage']
export type Advisory = S['SealedAdvisory']
export type Overview = S['Overview']
export type FirstStep = S['FirstStep']
export type Judgement = S['Judgement']
export type Crossed = S['Crossed']
export type Choice = NonNullable<S['Begun']['choices']>[string]
export type Revision = S['Revision']
export type JournalEntry = S['JournalEntry']
export type Group = S['Group']
export type Machine = S['Machine']
export type Machines = S['Machines']
export type Installed = S['InstalledPackage']
export type Files = S['Files']
export type Problem = S['Problem']
export type Who = S['Who']
export type Outcome = S['Outcome']
export type Preview = S['Preview']
export type Dependents = S['Dependents']
export type Signed = S['Signed']
export type DefinedField = S['DefinedField']
export type Loss = S['DefinedLoss']
export type Standing = Omit<Signed['stops'], 'none'>
export type Proof = S['Proof']
export type Refusal = S['Refusal']
export type Explained = S['Explained']
export type WayOut = S['WayOut']
export type Amendment = Omit<S['AmendAsked'], 'look'>
export type Certified = S['Certified']
export type Statement = S['Statement']
export type Where = S['Where']
export type Account = S['Account']
export type News = S['News']
export type Subject = NonNullable<News['changed']>[number]
export type Told = S['Told']
export type Alike = S['Alike']
export type PoolUsage = S['PoolUsage']
export type Found = S['Found']
export type FoundPackage = S['FoundPackage']
export type FoundPackages = S['FoundPackages']
export type Visit = S['Visit']
export type Kept = S['Draft']
export type NewToken = S['NewToken']
export type Page<T> = { items: T[]; next?: string }
/** A call of the API, by its name. */
export type Does = keyof operations

/** Who is signed in; the session's cookie is for the browser alone. */
export const who = ref<Who | null>(null)
/** That a session was there and counts no more. */
export const ended = ref(false)

/** The role that a call needs and this account has not; empty where it may make it. */
export const lacks = (does: Does): string => who.value?.needs[does] ?? ''

export class Trouble extends Error {
  constructor(public problem: Problem) {
    super(problem.detail || problem.title)
  }
}

/** A body that is a Blob goes as it is, anything else as JSON. */
async function send(
  method: string,
  path: string,
  body?: unknown,
  headers: Record<string, string> = {},
  signal?: AbortSignal,
): Promise<Response> {
  let res: Response
  try {
    res = await fetch('/api/v1' + path, {
      method,
      signal,
      headers: {
        ...(body === undefined
          ? {}
          : { 'Content-Type': body instanceof Blob ? 'application/octet-stream' : 'application/json' }),
        ...headers,
      },
      body: body === undefined || body instanceof Blob ? body : JSON.stringify(body),
    })
  } catch (e) {
    if (signal?.aborted) throw e
    throw new Trouble({
      type: '',
      title: 'The service does not answer',
      status: 0,
      detail: 'the connection to it broke',
      way_out: 'check whether stockade serve is running. What you typed is still here',
    })
  }
  if (!res.ok) {
    const problem = await res.json().catch(() => ({
      type: '',
      title: 'The service answered ' + res.status,
      status: res.status,
      detail: '',
    }))
    if (res.status === 401 && who.value) {
      who.value = null
      ended.value = true
    }
    throw new Trouble(problem)
  }
  return res
}

const underWay = new Map<string, Promise<unknown>>()

/** Makes a call. What is pressed twice before it was answered is done once. */
export function call<T>(method: string, path: string, body?: unknown): Promise<T> {
  const made = async () => (await send(method, path, body)).json()
  if (method === 'GET' || body instanceof Blob) return made()
  const which = [method, path, JSON.stringify(body)].join(' ')
  const now = underWay.get(which) ?? made().finally(() => underWay.delete(which))
  underWay.set(which, now)
  return now as Promise<T>
}
/** Reads one thing with its ETag, to be sent back as If-Match when it is edited. */
export async function getTagged<T>(path: string): Promise<T & { etag: string }> {
  const res = await send('GET', path)
  return { ...(await res.json()), etag: res.headers.get('ETag') ?? '' }
}
export async function postOver<T>(path: string, body: unknown, etag: string): Promise<T> {
  return (await send('POST', path, body, etag ? { 'If-Match': etag } : {})).json()
}
export const get = <T>(path: string) => call<T>('GET', path)
export const post = <T>(path: string, body?: unknown) => call<T>('POST', path, body)

/** A file as it is. */
export const bytes = async (path: string) => (await send('GET', path)).blob()

/** Reads who is signed in; nobody where no session is. */
export async function look(): Promise<void> {
  try {
    who.value = await get('/whoami')
  } catch (e) {
    if (!(e instanceof Trouble) || e.problem.status !== 401) throw e
  }
}
export async function signIn(as: S['SignIn']): Promise<void> {
  who.value = await post('/session', as)
  ended.value = false
}
export async function signOut(): Promise<void> {
  await call('DELETE', '/session')
  who.value = null
}

/** Opens the stream of what happens; it ends when the signal does, or the service. */
export const stream = (signal: AbortSignal) => send('GET', '/events', undefined, {}, signal)
