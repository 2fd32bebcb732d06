/** What the service answers; the same words as its OpenAPI document. */

/** Those search-time numbers that a recipe heeds. */
export interface Settings {
  beam?: number
  visit?: number
  rescore?: number
}
export interface Serving {
  index: string
  settings: Settings
}
export interface Column {
  name: string
  dimensions: number
  metric: string
  encoder: string | null
  template: string | null
  n_vectors: number
  serving: Serving | null
  n_bytes_memory: number
}
export interface Index {
  name: string
  column: string
  recipe: string
  state: 'building' | 'ready' | 'failed'
  error: string | null
  n_rows: number
  revision: number
  n_uncovered: number
  n_dead: number
  n_bytes_file: number
  n_bytes_vectors: number
  n_bytes_structure: number
  n_bytes_memory: number
  expected: Expected | null
  measured: { sweep: number; settings: Settings; k: number; recall_mean: number; p50_us: number; queries_per_s: number } | null
  build_seconds: number
  serving: boolean
}
export interface Expected {
  memory_bytes: number
  file_bytes: number
  build_seconds: number
}
/** The JSON form of a recipe. */
export interface RecipeForm {
  prepare?: { center?: boolean; reduce?: number; rotate?: boolean }
  route:
    | 'scan'
    | { graph: { links: number; build: number; layers: boolean; beside: boolean } }
    | { cells: { count?: number; router: 'scan' | 'graph'; spill: boolean } }
    | { crossed: { left: number; right: number } }
  store: 'f32' | 'f16' | 'int8' | { pq: { parts: number; bits: number } } | { bits: { planes: number } }
  rescore?: 'f32' | 'f16' | 'int8'
}
export interface Explained {
  recipe: string
  rows: number
  dimensions: number
  metric: string
  why: string | null
  form: RecipeForm
  stages: { stage: string; what: string; bytes_per_row: number; fixed_bytes: number }[]
  expected: Expected
  learns_from: number | null
  notices: string[]
}
export interface Property {
  type: string
  format?: string
  items?: { type: string }
  description?: string
  /** Of an object: its members, which are fields by dotted path. */
  properties?: Record<string, Property>
  refersTo?: string
  storedOnly?: boolean
}
export interface Collection {
  name: string
  description: string
  fields: { properties: Record<string, Property> }
  columns: Column[]
  default_column: string | null
  shape: number
  indexes: Index[]
  n_records: number
  revision: number
  created_at: string
}
export type Fields = Record<string, unknown>
export interface RecordRow {
  key: string
  fields: Fields
  revision: number
  vectors?: Record<string, number[] | null>
}
export interface RecordPage {
  records: RecordRow[]
  next: string | null
}
export interface Hit {
  key: string
  distance: number
  score: number
  fields: Fields
  follow?: Record<string, { collection: string; key: string; fields: Fields } | null>
}
export interface Search {
  hits: Hit[]
  via: {
    column: string
    metric: string
    index: string | null
    recipe: string | null
    settings: Settings | null
    plan: {
      strategy: string
      rows: number
      allowed: number
      scanned_beside: number
      considered: { strategy: string; expected_us: number; distances: number; ns_each: number }[]
    }
    work: { distances: number; hops: number; stepped_over: number }
    exact: boolean
  }
  revision: number
  took: { encode_us: number; filter_us: number; plan_us: number; search_us: number; fetch_us: number; total_us: number }
  notices: { code: string; text: string }[]
}
export interface SearchInput {
  column?: string
  text?: string
  vector?: number[]
  like?: string | string[]
  unlike?: string[]
  k: number
  filter?: string
  exact?: boolean
  settings?: Settings
  skip?: number
  leave_out?: string[]
  follow?: string[]
  time_limit_ms?: number
  min_score?: number
  at_most?: { field: string; hits: number }
  sort?: string
}
export interface Job {
  id: number
  kind: string
  collection: string
  subject: string
  state: 'running' | 'done' | 'failed' | 'cancelled'
  stage: string | null
  done: number
  total: number
  elapsed_s: number
  left_s: number | null
  counts: Partial<LoadCounts> | null
  log: { at: string; text: string }[]
  result: ({ sweep?: number } & Partial<LoadResult>) | null
  error: string | null
  created_at: string
}
export interface SweepPoint {
  settings: Settings
  queries_per_s: number
  recall_mean: number
  recall_p5: number
  recall_min: number
  recall_ties_mean: number
  p50_us: number
  p95_us: number
  p99_us: number
  distances_per_query: number
  histogram: number[]
}
export interface Sweep {
  id: number
  index: string
  column: string
  recipe: string
  spec: { k: number; queries: number; beams?: number[]; visits?: number[]; seed: number }
  result: {
    points: SweepPoint[]
    exact: { queries: number; queries_per_s: number; p50_us: number; p99_us: number }
    n_rows: number
    n_queries: number
    revision: number
  }
  created_at: string
}
export interface Service {
  version: string
  node: string
  up_s: number
  n_collections: number
  n_records: number
  kernels: string
  database: boolean
}
export interface FieldCounts {
  name: string
  type: string
  description: string | null
  n_present: number
  n_missing: number
  n_distinct: number
  stored_only: boolean
  refers_to: string | null
  n_lost_references: number | null
  n_bytes: number
  values: { value: string | number | boolean; count: number }[]
  histogram: { low: string | number; high: string | number; counts: number[] } | null
}
export interface LoadCounts {
  read: number
  new: number
  replaced: number
  unchanged: number
  rejected: number
  unencoded: number
  rows_per_s: number
}
export interface LoadResult extends LoadCounts {
  load: number
  before: number
  in_database: number
  others_wrote: boolean
  adds_up: boolean
  notices: string[]
}
export interface Load {
  id: number
  state: 'running' | 'done' | 'stopped' | 'cancelled'
  error: string | null
  job: number
  files: string[]
  read: number
  new: number
  replaced: number
  unchanged: number
  rejected: number
  unencoded: number
  created_at: string
}
export interface LoadInput {
  records?: string
  vectors?: { column?: string; file: string; keys?: string }[]
  match?: 'row' | 'key'
  key?: string
  rename?: Record<string, string>
  only?: string[]
  bad_rows?: 'stop' | 'set-aside'
}
export interface StartedLoad {
  load: number
  job: Job
}
export interface UploadedFile {
  id: string
  name: string
  bytes: number | null
  received: number
  complete: boolean
}
export interface FoundField {
  source: string
  name: string
  type: string
  n_missing: number
  n_distinct: number
  examples: unknown[]
  remark: string | null
  choices?: { type: string; n_rejected: number; first: [number, unknown] | null }[]
}
export interface FoundVectors {
  source: string
  name: string
  dimensions: number
  element: string
  n_missing: number
  remark: string | null
}
export interface Inspection {
  file: string
  format: string
  n_rows: number | null
  n_sampled: number
  key: string | null
  fields: FoundField[]
  vectors: FoundVectors[]
  troubles: string[]
}
export interface Encoder {
  name: string
  dimensions: number
}
export interface CostPart {
  part: 'records' | 'field' | 'vectors' | 'index'
  name: string
  n: number
  database: number
  disk: number
  memory: number
  coverage: number | null
}
export interface Costs {
  parts: CostPart[]
  database: number
  disk: number
  memory: number
  written_at: string | null
}
