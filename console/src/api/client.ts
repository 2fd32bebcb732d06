/** Calls to the service. Every failure is a Refusal with words that a person can act on. */

import type { Collection, FieldCounts, Job, RecordPage, RecordRow, Search, SearchInput, Service, Serving, Sweep } from './shapes'

export class Refusal extends Error {
  constructor(
    readonly word: string,
    readonly title: string,
    detail: string,
    readonly requestId: string,
    readonly at: { start: number; end: number; line: number; column: number; message: string } | null,
    readonly status: number,
  ) {
    super(detail)
  }
}

async function call<T>(method: string, path: string, body?: unknown, signal?: AbortSignal): Promise<T> {
  let response: Response
  try {
    response = await fetch(path, {
      method,
      signal,
      headers: body === undefined ? {} : { 'Content-Type': 'application/json' },
      body: body === undefined ? undefined : JSON.stringify(body),
    })
  } catch (error) {
    if (error instanceof DOMException && error.name === 'AbortError') throw error
    throw new Refusal(
      'unreachable',
      'The service does not answer',
      'The browser got no answer. Is the service running? bin/demo starts it; this page goes on when it is back.',
      '',
      null,
      0,
    )
  }
  if (response.status === 204) return undefined as T
  const text = await response.text()
  if (response.ok) return JSON.parse(text) as T
  let p: Record<string, unknown> = {}
  try {
    p = JSON.parse(text)
  } catch {
    /* not Problem Details; the status has to do */
  }
  throw new Refusal(
    String(p.type ?? '').split(':').pop() || 'unknown',
    String(p.title ?? `The service answered ${response.status}`),
    String(p.detail ?? text.slice(0, 300)),
    String(p.request_id ?? response.headers.get('x-request-id') ?? ''),
    (p.at as Refusal['at']) ?? null,
    response.status,
  )
}

const of = (name: string) => `/api/collections/${encodeURIComponent(name)}`

/** A query string of what is given. */
function query(values: Record<string, string | number | null>): string {
  const given = Object.entries(values).filter(([, v]) => v !== null && v !== '')
  return new URLSearchParams(given.map(([k, v]) => [k, String(v)])).toString()
}

export const api = {
  service: () => call<Service>('GET', '/api/service'),
  collections: () => call<{ collections: Collection[] }>('GET', '/api/collections').then((r) => r.collections),
  collection: (name: string) => call<Collection>('GET', of(name)),
  records: (name: string, after: string | null, limit: number, filter = '') =>
    call<RecordPage>('GET', `${of(name)}/records?${query({ limit, after, filter })}`),
  record: (name: string, key: string) =>
    call<RecordRow>('GET', `${of(name)}/records/${encodeURIComponent(key)}?vectors=true`),
  fields: (name: string, filter: string, limit: number) =>
    call<{ n_records: number; fields: FieldCounts[] }>('GET', `${of(name)}/fields?${query({ limit, filter })}`),
  search: (name: string, input: SearchInput, signal?: AbortSignal) =>
    call<Search>('POST', `${of(name)}/search`, input, signal),
  build: (name: string, recipe: string, index: string | undefined, column: string) =>
    call<Job>('POST', `${of(name)}/indexes`, { recipe, name: index || undefined, column }),
  sweeps: (name: string) => call<{ sweeps: Sweep[] }>('GET', `${of(name)}/sweeps`).then((r) => r.sweeps),
  sweep: (name: string, input: { index: string; queries: number; k: number; beams: number[]; seed: number }) =>
    call<Job>('POST', `${of(name)}/sweeps`, input),
  serve: (name: string, column: string, serving: Serving | null) =>
    serving
      ? call<Collection>('PUT', `${of(name)}/columns/${encodeURIComponent(column)}/serving`, serving)
      : call<Collection>('DELETE', `${of(name)}/columns/${encodeURIComponent(column)}/serving`),
  jobs: () => call<{ jobs: Job[] }>('GET', '/api/jobs').then((r) => r.jobs),
  cancel: (id: number) => call<Job>('POST', `/api/jobs/${id}/cancel`),
  openapi: () => call<Record<string, any>>('GET', '/api/openapi.json'),
  signOut: () => call<void>('POST', '/api/sign-out'),
}
