// What happens, as the service tells it: one stream for each page that is looked at.
import { ref } from 'vue'
import { get, stream, Trouble, who, type Job, type News, type Progress, type Subject } from './api'

/** Whether the service answers; it is said within seconds that it does not. */
export const connected = ref(true)

const silence = 25_000 // the service says something every ten seconds
const again = 1_500
const restless = 300 // between two looks at what changed

type Told = { changed: (what: Subject[]) => void; back: () => void }

/** The questions whose answers a change may touch, by what it is of. Those that are not here are asked
 * again after a change of anything else than machines and the journal. */
const touched: Partial<Record<Subject, string[]>> = {
  machines: ['overview', 'findings', 'machines', 'machine', 'groups', 'search'],
  journal: ['overview', 'journal', 'whoami', 'key'],
  search: ['found', 'search'],
}

/** Whether the answer to a question may be another after some changes. */
export const drawsFrom = (question: string, what: Subject[]): boolean =>
  what.some((subject) => touched[subject]?.includes(question) ?? true)
const followers = new Set<(news: News | null) => void>()

/** Follows the stream while somebody is signed in and looks. */
export async function listen(told: Told, signal: AbortSignal) {
  while (!signal.aborted) {
    if (document.hidden || !who.value) {
      await wait(again)
      continue
    }
    const gone = new AbortController()
    const end = () => gone.abort()
    signal.addEventListener('abort', end)
    const away = () => document.hidden && end()
    document.addEventListener('visibilitychange', away)
    try {
      await read(told, gone)
    } catch (e) {
      if (!document.hidden && !(e instanceof Trouble && e.problem.status === 401)) lost()
    }
    signal.removeEventListener('abort', end)
    document.removeEventListener('visibilitychange', away)
    if (!document.hidden && who.value && !signal.aborted) lost()
    await wait(again)
  }
}

function lost() {
  connected.value = false
  followers.forEach((f) => f(null))
}

const wait = (ms: number) => new Promise((go) => setTimeout(go, ms))

async function read(told: Told, gone: AbortController) {
  let watch = setTimeout(() => gone.abort(), silence)
  try {
    const res = await stream(gone.signal)
    const reader = res.body!.pipeThrough(new TextDecoderStream()).getReader()
    let rest = ''
    let first = true
    for (;;) {
      const { value, done } = await reader.read()
      if (done) return
      clearTimeout(watch)
      watch = setTimeout(() => gone.abort(), silence)
      if (first) {
        first = false
        connected.value = true
        told.back()
      }
      rest += value
      const parts = rest.split('\n\n')
      rest = parts.pop()!
      parts.forEach((part) => pass(part, told))
    }
  } finally {
    clearTimeout(watch)
  }
}

let pending = 0
const waiting = new Set<Subject>()
function pass(part: string, told: Told) {
  const line = part.split('\n').find((l) => l.startsWith('data: '))
  if (!line) return
  const news: News = JSON.parse(line.slice(6))
  if (news.id) followers.forEach((f) => f(news))
  news.changed?.forEach((subject) => waiting.add(subject))
  if (news.job) waiting.add('checks') // what it found
  if (waiting.size) {
    clearTimeout(pending)
    pending = window.setTimeout(() => {
      const what = [...waiting]
      waiting.clear()
      told.changed(what)
    }, restless)
  }
}

/** Follows a job until it ends. Progress is null while the service does not answer. */
export function follow(
  id: number,
  progress: (p: Progress | null) => void,
  signal?: AbortSignal,
): Promise<Job> {
  return new Promise((resolve, reject) => {
    let asking = false
    const stop = () => {
      followers.delete(hear)
      clearInterval(sure)
    }
    async function ask() {
      if (asking) return
      asking = true
      try {
        const job = await get<Job>('/jobs/' + id)
        if (job.state !== 'running') {
          stop()
          resolve(job)
        } else progress(job.progress)
      } catch (e) {
        if (e instanceof Trouble && e.problem.status) {
          stop()
          reject(e)
        } else progress(null)
      } finally {
        asking = false
      }
    }
    function hear(news: News | null) {
      if (!news) return progress(null)
      if (news.id !== id) return
      if (news.progress) progress(news.progress)
      if (news.job && news.job.state !== 'running') ask()
    }
    followers.add(hear)
    const sure = setInterval(ask, 5_000) // a stream that began late has missed how it ended
    signal?.addEventListener('abort', () => {
      stop()
      reject(signal.reason)
    })
    ask()
  })
}
