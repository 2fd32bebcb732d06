/** What the service answers; the same words as its OpenAPI document. */

export interface Serving {
  index: string
  settings: { beam: number }
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
  build_seconds: number
  serving: boolean
}
export interface Property {
  type: string
  format?: string
  items?: { type: string }
  description?: string
}
export interface Collection {
  name: string
  description: string
  fields: { properties: Record<string, Property> }
  columns: Column[]
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
}
export interface Search {
  hits: Hit[]
  via: {
    column: string
    metric: string
    index: string | null
    recipe: string | null
    settings: { beam: number } | null
    plan: {
      strategy: string
      rows: number
      allowed: number
      scanned_beside: number
      scan_cost: number
      walk_cost: number | null
    }
    work: { distances: number; hops: number }
    exact: boolean
  }
  revision: number
  took: { encode_us: number; filter_us: number; search_us: number; fetch_us: number; total_us: number }
  notices: { code: string; text: string }[]
}
export interface SearchInput {
  column?: string
  text?: string
  vector?: number[]
  like?: string
  k: number
  filter?: string
  exact?: boolean
  settings?: { beam: number }
}
export interface Job {
  id: number
  kind: string
  collection: string
  subject: string
  state: 'running' | 'done' | 'failed' | 'cancelled'
  done: number
  total: number
  elapsed_s: number
  left_s: number | null
  log: { at: string; text: string }[]
  result: { sweep?: number } | null
  error: string | null
  created_at: string
}
export interface SweepPoint {
  settings: { beam: number }
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
  spec: { k: number; queries: number; beams: number[]; seed: number }
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
  values: { value: string | number | boolean; count: number }[]
  histogram: { low: string | number; high: string | number; counts: number[] } | null
}
