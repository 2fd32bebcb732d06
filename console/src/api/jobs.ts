/** The jobs of the tray: followed by their events, one list for the whole console. */

import { shallowRef } from 'vue'
import { api } from './client'
import type { Job } from './shapes'

const jobs = shallowRef<Job[]>([])
const watched = new Map<number, EventSource>()
const waiting = new Map<number, ((job: Job) => void)[]>()

function put(job: Job) {
  const rest = jobs.value.filter((j) => j.id !== job.id)
  jobs.value = [job, ...rest].sort((a, b) => b.id - a.id).slice(0, 50)
}

function settle(job: Job) {
  waiting.get(job.id)?.forEach((done) => done(job))
  waiting.delete(job.id)
}

function watchEvents(id: number) {
  if (watched.has(id)) return
  const events = new EventSource(`/api/jobs/${id}/events`)
  watched.set(id, events)
  const take = (event: MessageEvent<string>) => put(JSON.parse(event.data) as Job)
  events.addEventListener('progress', take)
  events.addEventListener('end', (event) => {
    take(event)
    events.close()
    watched.delete(id)
    settle(JSON.parse(event.data) as Job)
  })
}

export function useJobs() {
  return {
    jobs,
    refresh: async () => {
      const all = await api.jobs()
      jobs.value = all
      all.filter((j) => j.state === 'running').forEach((j) => watchEvents(j.id))
    },
    /** Shows a job in the tray; the promise holds how it ended. */
    follow: (job: Job): Promise<Job> => {
      put(job)
      return new Promise((done) => {
        waiting.set(job.id, [...(waiting.get(job.id) ?? []), done])
        watchEvents(job.id)
      })
    },
  }
}
