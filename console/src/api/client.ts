/** The routes of the service that the console uses. */

import { call, send } from './http'
import type {
  AuditList, Key, KeyList, KeyRequest, NewKey, Pulse,
  Advice, AdviceList, AdviceRequest, Collection, CollectionList, CollectionPatch, ComparedPage, Comparison, ComparisonList, ComparisonRequest, Costs, DroppedCollection, DroppedList, EncoderList, Fields, FilterReading, Index, IndexList, Inspection, Job, JobList,
  LensAnswer, LensRequest, Load, LoadList, LoadRequest, MapAnswer, MapRequest, NewCollection, NewColumn, NewIndex, NewQuerySet, OpenApi, QueryPage, QuerySet, QuerySetList, Record_, RecipeExplained, RecipeForm, RecordPage,
  SavedList, SavedSearch, SavedTraffic, SearchAnswer, SearchRequest, Service, ServingChoice, StartedLoad, Sweep, SweepList, SweepRequest, Target,
  TargetList, TargetRequest, Upload, UploadList, Verdict, VerdictRequest, Verdicts, Watch, WatchState,
} from './shapes'

export const pathOf = (collection: string) => `/api/collections/${encodeURIComponent(collection)}`
export const savedPath = (collection: string, saved: string) => `${pathOf(collection)}/saved-searches/${encodeURIComponent(saved)}`
const column = (collection: string, name: string) => `${pathOf(collection)}/columns/${encodeURIComponent(name)}`
const index = (collection: string, name: string) => `${pathOf(collection)}/indexes/${encodeURIComponent(name)}`

/** A path with a query string of the values that are given. */
function withQuery(path: string, values: Record<string, string | number | boolean | null | undefined>): string {
  const given = Object.entries(values).filter(([, v]) => v !== null && v !== undefined && v !== '')
  const query = new URLSearchParams(given.map(([k, v]) => [k, String(v)])).toString()
  return query ? `${path}?${query}` : path
}

export interface RecordsQuestion {
  limit: number
  after?: string | null
  filter?: string
  sort?: string
}

export const api = {
  service: (signal?: AbortSignal) => call<Service>('GET', '/api/service', { signal }),
  pulse: (signal?: AbortSignal) => call<Pulse>('GET', '/api/pulse', { signal }),
  keys: (signal?: AbortSignal): Promise<Key[]> => call<KeyList>('GET', '/api/keys', { signal }).then((r) => r.keys),
  makeKey: (body: KeyRequest) => call<NewKey>('POST', '/api/keys', { body }),
  rotateKey: (name: string, overlap_s: number) => call<NewKey>('POST', `/api/keys/${encodeURIComponent(name)}/secrets`, { body: { overlap_s } }),
  removeKey: (name: string) => call<undefined>('DELETE', `/api/keys/${encodeURIComponent(name)}`),
  audit: (before: number | undefined, signal?: AbortSignal) => call<AuditList>('GET', withQuery('/api/audit', { before, limit: 50 }), { signal }),
  signOut: () => call<undefined>('POST', '/api/sign-out'),
  openapi: (signal?: AbortSignal) => call<OpenApi>('GET', '/api/openapi.json', { signal }),

  collections: (signal?: AbortSignal): Promise<Collection[]> =>
    call<CollectionList>('GET', '/api/collections', { signal }).then((r) => r.collections),
  collection: (name: string, signal?: AbortSignal) => call<Collection>('GET', pathOf(name), { signal }),
  create: (body: NewCollection) => call<Collection>('POST', '/api/collections', { body }),
  change: (name: string, body: CollectionPatch) => call<Collection>('PATCH', pathOf(name), { body }),
  drop: (name: string) => call<DroppedCollection>('DELETE', pathOf(name)),
  dropped: (signal?: AbortSignal): Promise<DroppedCollection[]> => call<DroppedList>('GET', '/api/dropped-collections', { signal }).then((r) => r.dropped),
  restore: (id: number, name?: string) => call<Collection>('POST', `/api/dropped-collections/${id}/restoration`, { body: name ? { name } : {} }),
  rename: (name: string, to: string) => call<Collection>('PUT', `${pathOf(name)}/name`, { body: { name: to } }),
  swap: (name: string, other: string) => call<CollectionList>('POST', `${pathOf(name)}/swap`, { body: { with: other } }),
  clone: (name: string, to: string) => call<Job>('POST', `${pathOf(name)}/clone`, { body: { name: to } }),
  costs: (name: string, signal?: AbortSignal) => call<Costs>('GET', `${pathOf(name)}/costs`, { signal }),
  addColumn: (name: string, body: NewColumn) => call<Collection>('POST', `${pathOf(name)}/columns`, { body }),
  backfill: (name: string, of: string) => call<Job>('POST', `${column(name, of)}/backfill`),
  dropColumn: (name: string, of: string) => call<Collection>('DELETE', column(name, of)),
  serve: (name: string, of: string, body: ServingChoice) => call<Collection>('PUT', `${column(name, of)}/serving`, { body }),
  serveExact: (name: string, of: string) => call<Collection>('DELETE', `${column(name, of)}/serving`),
  encoders: (signal?: AbortSignal) => call<EncoderList>('GET', '/api/encoders', { signal }).then((r) => r.encoders),

  files: (signal?: AbortSignal): Promise<Upload[]> => call<UploadList>('GET', '/api/files', { signal }).then((r) => r.files),
  announce: (name: string, bytes: number) => call<Upload>('POST', '/api/files', { body: { name, bytes } }),
  upload: (file: File, begun: Upload, progress: (sent: number) => void) =>
    send<Upload>(`/api/files/${begun.id}/content?offset=${begun.received}&end=true`, file, begun.received, progress),
  inspect: (file: string, types?: Record<string, string>) =>
    call<Inspection>('GET', withQuery(`/api/files/${file}/inspection`, { types: types && JSON.stringify(types) })),
  forget: (file: string) => call<undefined>('DELETE', `/api/files/${file}`),
  load: (name: string, body: LoadRequest) => call<StartedLoad>('POST', `${pathOf(name)}/loads`, { body }),
  loads: (name: string, signal?: AbortSignal): Promise<Load[]> =>
    call<LoadList>('GET', `${pathOf(name)}/loads`, { signal }).then((r) => r.loads),
  resume: (name: string, load: number, bad_rows?: 'stop' | 'set-aside') =>
    call<StartedLoad>('POST', `${pathOf(name)}/loads/${load}/resume`, { body: bad_rows ? { bad_rows } : {} }),

  records: (name: string, question: RecordsQuestion, signal?: AbortSignal) =>
    call<RecordPage>('GET', withQuery(`${pathOf(name)}/records`, { ...question }), { signal }),
  record: (name: string, key: string, signal?: AbortSignal) =>
    call<Record_>('GET', `${pathOf(name)}/records/${encodeURIComponent(key)}?vectors=true`, { signal }),
  fields: (name: string, question: { filter?: string; limit: number }, signal?: AbortSignal) =>
    call<Fields>('GET', withQuery(`${pathOf(name)}/fields`, { ...question }), { signal }),
  readFilter: (name: string, filter: string, signal?: AbortSignal) =>
    call<FilterReading>('POST', `${pathOf(name)}/filter`, { body: { filter }, signal }),
  search: (name: string, body: SearchRequest, signal?: AbortSignal) =>
    call<SearchAnswer>('POST', `${pathOf(name)}/search`, { body, signal }),

  indexes: (name: string, signal?: AbortSignal): Promise<Index[]> =>
    call<IndexList>('GET', `${pathOf(name)}/indexes`, { signal }).then((r) => r.indexes),
  build: (name: string, body: NewIndex) => call<Job>('POST', `${pathOf(name)}/indexes`, { body }),
  absorb: (name: string, of: string) => call<Job>('POST', `${index(name, of)}/absorb`),
  unloadIndex: (name: string, of: string) => call<Index>('DELETE', `${index(name, of)}/memory`),
  loadIndex: (name: string, of: string) => call<Index>('PUT', `${index(name, of)}/memory`),
  dropIndex: (name: string, of: string) => call<undefined>('DELETE', index(name, of)),
  explainRecipe: (recipe: string | RecipeForm, collection: string, of: string, signal?: AbortSignal) =>
    call<RecipeExplained>('POST', '/api/recipes/explanation', { body: { recipe, collection, column: of || undefined }, signal }),
  sweeps: (name: string, signal?: AbortSignal): Promise<Sweep[]> =>
    call<SweepList>('GET', `${pathOf(name)}/sweeps`, { signal }).then((r) => r.sweeps),
  sweep: (name: string, id: number, signal?: AbortSignal) => call<Sweep>('GET', `${pathOf(name)}/sweeps/${id}`, { signal }),
  runSweep: (name: string, body: SweepRequest) => call<Job>('POST', `${pathOf(name)}/sweeps`, { body }),
  deleteSweep: (name: string, id: number) => call<undefined>('DELETE', `${pathOf(name)}/sweeps/${id}`),
  targets: (name: string, signal?: AbortSignal): Promise<Target[]> =>
    call<TargetList>('GET', `${pathOf(name)}/targets`, { signal }).then((r) => r.targets),
  target: (name: string, id: number, signal?: AbortSignal) => call<Target>('GET', `${pathOf(name)}/targets/${id}`, { signal }),
  solveTarget: (name: string, body: TargetRequest) => call<Job>('POST', `${pathOf(name)}/targets`, { body }),
  advice: (name: string, signal?: AbortSignal): Promise<Advice[]> =>
    call<AdviceList>('GET', `${pathOf(name)}/advice`, { signal }).then((r) => r.advice),
  advise: (name: string, body: AdviceRequest) => call<Job>('POST', `${pathOf(name)}/advice`, { body }),
  map: (name: string, body: MapRequest, signal?: AbortSignal) => call<MapAnswer>('POST', `${pathOf(name)}/map`, { body, signal }),
  comparisons: (name: string, signal?: AbortSignal): Promise<Comparison[]> =>
    call<ComparisonList>('GET', `${pathOf(name)}/comparisons`, { signal }).then((r) => r.comparisons),
  comparison: (name: string, id: number, signal?: AbortSignal) => call<Comparison>('GET', `${pathOf(name)}/comparisons/${id}`, { signal }),
  runComparison: (name: string, body: ComparisonRequest) => call<Job>('POST', `${pathOf(name)}/comparisons`, { body }),
  comparedQueries: (name: string, id: number, from: number, limit: number, signal?: AbortSignal) =>
    call<ComparedPage>('GET', withQuery(`${pathOf(name)}/comparisons/${id}/queries`, { from, limit }), { signal }),
  judge: (name: string, id: number, position: number, verdict: Verdict | null) =>
    call<Verdicts>('PUT', `${pathOf(name)}/comparisons/${id}/queries/${position}/verdict`, { body: { verdict } satisfies VerdictRequest }),
  querySets: (name: string, signal?: AbortSignal): Promise<QuerySet[]> =>
    call<QuerySetList>('GET', `${pathOf(name)}/query-sets`, { signal }).then((r) => r.query_sets),
  makeQuerySet: (name: string, body: NewQuerySet) => call<Job>('POST', `${pathOf(name)}/query-sets`, { body }),
  deleteQuerySet: (name: string, of: string) => call<undefined>('DELETE', `${pathOf(name)}/query-sets/${encodeURIComponent(of)}`),
  savedSearches: (name: string, signal?: AbortSignal): Promise<SavedSearch[]> => call<SavedList>('GET', `${pathOf(name)}/saved-searches`, { signal }).then((r) => r.saved),
  savedSearch: (name: string, saved: string, signal?: AbortSignal) => call<SavedSearch>('GET', savedPath(name, saved), { signal }),
  saveSearch: (name: string, saved: string, body: unknown) => call<SavedSearch>('PUT', savedPath(name, saved), { body }),
  setLiveVersion: (name: string, saved: string, version: number) => call<SavedSearch>('PUT', `${savedPath(name, saved)}/live`, { body: { version } }),
  withdrawSaved: (name: string, saved: string) => call<SavedSearch>('DELETE', `${savedPath(name, saved)}/live`),
  removeSaved: (name: string, saved: string) => call<undefined>('DELETE', savedPath(name, saved)),
  savedTraffic: (name: string, saved: string, signal?: AbortSignal) => call<SavedTraffic>('GET', `${savedPath(name, saved)}/traffic`, { signal }),
  /** Asks the version that answers at a path, or tries another one. */
  askSaved: (path: string, body: unknown) => call<SearchAnswer>('POST', path, { body }),
  watchState: (name: string, hours: number, signal?: AbortSignal) => call<WatchState>('GET', withQuery(`${pathOf(name)}/watch`, { hours }), { signal }),
  setWatch: (name: string, body: Watch) => call<WatchState>('PUT', `${pathOf(name)}/watch`, { body }),
  forgetCaptured: (name: string) => call<{ forgotten: number }>('DELETE', `${pathOf(name)}/captured`),
  lens: (name: string, body: LensRequest, signal?: AbortSignal) => call<LensAnswer>('POST', `${pathOf(name)}/lens`, { body, signal }),
  queries: (name: string, of: string, from: number, limit: number, signal?: AbortSignal) =>
    call<QueryPage>('GET', withQuery(`${pathOf(name)}/query-sets/${encodeURIComponent(of)}/queries`, { from, limit }), { signal }),

  jobs: (signal?: AbortSignal): Promise<Job[]> => call<JobList>('GET', '/api/jobs', { signal }).then((r) => r.jobs),
  job: (id: number) => call<Job>('GET', `/api/jobs/${id}`),
  cancel: (id: number) => call<Job>('POST', `/api/jobs/${id}/cancel`),
}
