/** Calls to the service. Every failure is a Refusal with words that a person can act on. */

import type {
  Explained,
  Index,
  RecipeForm,
  Collection, Costs, Encoder, FieldCounts, Inspection, Job, Load, LoadInput, RecordPage, RecordRow, Search, SearchInput,
  Service, Serving, StartedLoad, Sweep, UploadedFile,
} from './shapes'

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
  throw refusal(response.status, text, response.headers.get('x-request-id'))
}

/** What a body of Problem Details says. */
function refusal(status: number, text: string, requestId: string | null): Refusal {
  let p: Record<string, unknown> = {}
  try {
    p = JSON.parse(text)
  } catch {
    /* not Problem Details; the status has to do */
  }
  return new Refusal(
    String(p.type ?? '').split(':').pop() || 'unknown',
    String(p.title ?? `The service answered ${status}`),
    String(p.detail ?? text.slice(0, 300)),
    String(p.request_id ?? requestId ?? ''),
    (p.at as Refusal['at']) ?? null,
    status,
  )
}

/** Sends a file and tells how far it is; what broke off before goes on from there. */
function upload(file: File, begun: UploadedFile, progress: (sent: number) => void): Promise<UploadedFile> {
  return new Promise((done, failed) => {
    // fetch does not tell how much of a body is sent.
    const request = new XMLHttpRequest()
    request.open('PUT', `/api/files/${begun.id}/content?offset=${begun.received}&end=true`)
    request.setRequestHeader('Content-Type', 'application/octet-stream')
    request.upload.onprogress = (e) => progress(begun.received + e.loaded)
    request.onerror = () =>
      failed(new Refusal('unreachable', 'The upload broke off', 'Drop the file again: it goes on where it stopped.', '', null, 0))
    request.onload = () => {
      if (request.status < 300) done(JSON.parse(request.responseText) as UploadedFile)
      else failed(refusal(request.status, request.responseText, request.getResponseHeader('x-request-id')))
    }
    request.send(file.slice(begun.received))
  })
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
  create: (input: unknown) => call<Collection>('POST', '/api/collections', input),
  change: (name: string, patch: { description?: string; fields?: unknown; default_column?: string }) =>
    call<Collection>('PATCH', of(name), patch),
  costs: (name: string) => call<Costs>('GET', `${of(name)}/costs`),
  addColumn: (name: string, input: unknown) => call<Collection>('POST', `${of(name)}/columns`, input),
  fillColumn: (name: string, column: string) => call<Job>('POST', `${of(name)}/columns/${encodeURIComponent(column)}/fill`),
  dropColumn: (name: string, column: string) =>
    call<Collection>('DELETE', `${of(name)}/columns/${encodeURIComponent(column)}`),
  encoders: () => call<{ encoders: Encoder[] }>('GET', '/api/encoders').then((r) => r.encoders),
  files: () => call<{ files: UploadedFile[] }>('GET', '/api/files').then((r) => r.files),
  announce: (name: string, bytes: number) => call<UploadedFile>('POST', '/api/files', { name, bytes }),
  upload,
  inspect: (file: string, types?: Record<string, string>) =>
    call<Inspection>('GET', `/api/files/${file}/inspection${types ? `?types=${encodeURIComponent(JSON.stringify(types))}` : ''}`),
  forget: (file: string) => call<void>('DELETE', `/api/files/${file}`),
  load: (name: string, input: LoadInput) => call<StartedLoad>('POST', `${of(name)}/loads`, input),
  loads: (name: string) => call<{ loads: Load[] }>('GET', `${of(name)}/loads`).then((r) => r.loads),
  resume: (name: string, load: number, bad_rows?: 'stop' | 'set-aside') =>
    call<StartedLoad>('POST', `${of(name)}/loads/${load}/resume`, bad_rows ? { bad_rows } : {}),
  records: (name: string, after: string | null, limit: number, filter = '', sort = '') =>
    call<RecordPage>('GET', `${of(name)}/records?${query({ limit, after, filter, sort })}`),
  record: (name: string, key: string) =>
    call<RecordRow>('GET', `${of(name)}/records/${encodeURIComponent(key)}?vectors=true`),
  fields: (name: string, filter: string, limit: number) =>
    call<{ n_records: number; fields: FieldCounts[] }>('GET', `${of(name)}/fields?${query({ limit, filter })}`),
  readFilter: (name: string, filter: string) =>
    call<{ text: string; json: unknown; allowed: number; of: number }>('POST', `${of(name)}/filter`, { filter }),
  search: (name: string, input: SearchInput, signal?: AbortSignal) =>
    call<Search>('POST', `${of(name)}/search`, input, signal),
  build: (name: string, recipe: string, index: string | undefined, column: string) =>
    call<Job>('POST', `${of(name)}/indexes`, { recipe, name: index || undefined, column }),
  indexes: (name: string) => call<{ indexes: Index[] }>('GET', `${of(name)}/indexes`).then((r) => r.indexes),
  check: (recipe: string | RecipeForm, collection: string, column: string, signal?: AbortSignal) =>
    call<Explained>('POST', '/api/recipes/check', { recipe, collection, column: column || undefined }, signal),
  absorb: (name: string, index: string) => call<Job>('POST', `${of(name)}/indexes/${encodeURIComponent(index)}/absorb`),
  drop: (name: string, index: string) => call<void>('DELETE', `${of(name)}/indexes/${encodeURIComponent(index)}`),
  sweeps: (name: string) => call<{ sweeps: Sweep[] }>('GET', `${of(name)}/sweeps`).then((r) => r.sweeps),
  sweep: (name: string, input: { index: string; queries: number; k: number; beams?: number[]; visits?: number[]; seed: number }) =>
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
