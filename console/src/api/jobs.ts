/** The jobs of the tray, followed by their events: one list for the whole console. */

import { shallowRef } from 'vue'
import { api } from './client'
import { asRefusal, type Refusal } from './http'
import type { Job } from './shapes'

interface Waiter {
  done: (job: Job) => void
  failed: (refusal: Refusal) => void
}

/** How often a broken stream is looked after, and how long between two looks. */
const LOOKS = 5
const PAUSE_MS = 1000

const jobs = shallowRef<Job[]>([])
const watched = new Set<number>()
const waiting = new Map<number, Waiter[]>()

function put(job: Job) {
  const others = jobs.value.filter((j) => j.id !== job.id)
  jobs.value = [job, ...others].sort((a, b) => b.id - a.id).slice(0, 50)
}

function settle(id: number, how: (waiter: Waiter) => void) {
  watched.delete(id)
  const waiters = waiting.get(id) ?? []
  waiting.delete(id)
  waiters.forEach(how)
}

function ended(job: Job) {
  put(job)
  settle(job.id, (w) => w.done(job))
}

function watchEvents(id: number, looks = LOOKS) {
  watched.add(id)
  const events = new EventSource(`/api/jobs/${id}/events`)
  events.addEventListener('progress', (event) => {
    looks = LOOKS
    put(JSON.parse(event.data as string) as Job)
  })
  events.addEventListener('end', (event) => {
    events.close()
    ended(JSON.parse(event.data as string) as Job)
  })
  // The browser would reconnect for ever and never say what became of the job: ask for it instead.
  events.onerror = () => {
    events.close()
    void lookAfter(id, looks - 1)
  }
}

/** After a stream broke: the job has ended, or goes on, or nobody can say. Every way, what waits for it is told. */
async function lookAfter(id: number, looks: number) {
  try {
    const job = await api.job(id)
    if (job.state !== 'running') return ended(job)
    put(job)
    if (looks > 0) return void setTimeout(() => watchEvents(id, looks), PAUSE_MS)
    throw new Error(`The events of job ${id} cannot be followed; the job goes on`)
  } catch (error) {
    const refusal = asRefusal(error)
    if (refusal.status === 0 && refusal.word === 'unreachable' && looks > 0) return void setTimeout(() => void lookAfter(id, looks - 1), PAUSE_MS)
    settle(id, (w) => w.failed(refusal))
  }
}

export function useJobs() {
  return {
    jobs,
    refresh: async () => {
      jobs.value = await api.jobs()
      jobs.value.filter((j) => j.state === 'running' && !watched.has(j.id)).forEach((j) => watchEvents(j.id))
    },
    /** Shows a job in the tray. Gives how it ended; fails when nobody can say how. */
    follow: (job: Job): Promise<Job> => {
      put(job)
      return new Promise((done, failed) => {
        waiting.set(job.id, [...(waiting.get(job.id) ?? []), { done, failed }])
        if (!watched.has(job.id)) watchEvents(job.id)
      })
    },
  }
}
