/** The shapes that go over HTTP. They are generated; the few that the OpenAPI document leaves open are named here. */

import type { components } from './generated'

type Shapes = components['schemas']
export type AuditEntry = Shapes['AuditEntry']
export type AuditList = Shapes['AuditList']
export type Key = Shapes['Key']
export type KeyList = Shapes['KeyList']
export type KeyRequest = Shapes['KeyRequest']
export type NewKey = Shapes['NewKey']
export type Permit = Shapes['Permit']
export type Scope = Shapes['Scope']
export type IndexState = Shapes['IndexState']
export type LaneState = Shapes['LaneState']
export type Pulse = Shapes['Pulse']
export type PulseStep = Shapes['PulseStep']
export type Advice = Shapes['Advice']
export type AdviceList = Shapes['AdviceList']
export type AdviceRequest = Shapes['AdviceRequest']
export type Candidate = Shapes['Candidate']
export type Collection = Shapes['Collection']
export type CollectionList = Shapes['CollectionList']
export type CollectionPatch = Shapes['CollectionPatch']
export type Column = Shapes['Column']
export type ComparedHit = Shapes['ComparedHit']
export type ComparedPage = Shapes['ComparedPage']
export type ComparedSide = Shapes['ComparedSide']
export type CompareSide = Shapes['CompareSide']
export type Comparison = Shapes['Comparison']
export type ComparisonList = Shapes['ComparisonList']
export type ComparisonRequest = Shapes['ComparisonRequest']
export type CostPart = Shapes['CostPart']
export type Costs = Shapes['Costs']
export type EncoderList = Shapes['EncoderList']
export type Field = Shapes['Field']
export type Fields = Shapes['Fields']
export type FilterReading = Shapes['FilterReading']
export type FoundField = Shapes['FoundField']
export type Hit = Shapes['Hit']
export type Index = Shapes['Index']
export type IndexList = Shapes['IndexList']
export type Inspection = Shapes['Inspection']
export type Job = Shapes['Job']
export type JobList = Shapes['JobList']
export type LensAnswer = Shapes['LensAnswer']
export type LensRequest = Shapes['LensRequest']
export type Load = Shapes['Load']
export type LoadList = Shapes['LoadList']
export type LoadRequest = Shapes['LoadRequest']
export type LoadResult = Shapes['LoadResult']
export type LoadVectors = Shapes['LoadVectors']
export type MapAnswer = Shapes['MapAnswer']
export type MapPoint = Shapes['MapPoint']
export type MapRequest = Shapes['MapRequest']
export type NewCollection = Shapes['NewCollection']
export type NewColumn = Shapes['NewColumn']
export type NewIndex = Shapes['NewIndex']
export type PairedTest = Shapes['PairedTest']
export type RecipeExplained = Shapes['RecipeExplained']
export type RecordPage = Shapes['RecordPage']
export type SearchAnswer = Shapes['SearchAnswer']
export type SearchRequest = Shapes['SearchRequest']
export type Service = Shapes['Service']
export type ServingChoice = Shapes['ServingChoice']
export type Settings = Shapes['Settings']
export type StartedLoad = Shapes['StartedLoad']
export type SearchCost = Shapes['SearchCost']
export type CostOf = Shapes['CostOf']
export type Strategy = Shapes['Strategy']
export type NewQuerySet = Shapes['NewQuerySet']
export type DroppedCollection = Shapes['DroppedCollection']
export type DroppedList = Shapes['DroppedList']
export type Parameter = Shapes['Parameter']
export type SavedList = Shapes['SavedList']
export type SavedSearch = Shapes['SavedSearch']
export type SavedTraffic = Shapes['SavedTraffic']
export type SavedVersion = Shapes['SavedVersion']
export type Observed = Shapes['Observed']
export type QueryPage = Shapes['QueryPage']
export type QuerySet = Shapes['QuerySet']
export type QuerySetList = Shapes['QuerySetList']
export type Sweep = Shapes['Sweep']
export type SweepList = Shapes['SweepList']
export type SweepPoint = Shapes['SweepPoint']
export type SweepRequest = Shapes['SweepRequest']
export type Target = Shapes['Target']
export type TargetList = Shapes['TargetList']
export type TargetRequest = Shapes['TargetRequest']
export type Trial = Shapes['Trial']
export type TrueNeighbour = Shapes['TrueNeighbour']
export type Upload = Shapes['Upload']
export type Verdict = Shapes['Verdict']
export type VerdictRequest = Shapes['VerdictRequest']
export type Verdicts = Shapes['Verdicts']
export type Watch = Shapes['Watch']
export type WatchState = Shapes['WatchState']
export type UploadList = Shapes['UploadList']
/** A record; `Record` is a type of the language. */
export type Record_ = Shapes['Record']

/** A field as JSON Schema describes it. An object's members are fields by dotted path. */
export interface Property {
  type: string
  format?: string
  items?: { type: string }
  description?: string
  properties?: Record<string, Property>
  refersTo?: string
  storedOnly?: boolean
}
/** The fields of a collection. */
export const propertiesOf = (schema: Record<string, unknown>) => (schema.properties ?? {}) as Record<string, Property>

/** The JSON form of a recipe. */
export interface RecipeForm {
  prepare?: { center?: boolean; reduce?: number; rotate?: boolean }
  route:
    | 'scan'
    | { graph: { links: number; build: number; layers: boolean; inline_codes: boolean } }
    | { cells: { count?: number; router: 'scan' | 'graph'; overlap: boolean } }
    | { crossed: { left: number; right: number } }
  store: 'f32' | 'f16' | 'int8' | { pq: { parts: number; bits: number } } | { bits: { planes: number } }
  rescore?: 'f32' | 'f16' | 'int8'
}

/** What the job of a load counts while it runs, and what it gives in the end. */
export const loadOf = (job: Job) => ({ ...job.counts, ...job.result }) as Partial<LoadResult>
/** The number of what a job of a kind measured. */
export function madeOf(job: Job, kind: 'sweep' | 'target' | 'advice' | 'comparison'): number | null {
  const made = job.result?.[kind]
  return typeof made === 'number' ? made : null
}

/** A schema of the OpenAPI document, as far as the reference page reads it. */
export interface Schema {
  $ref?: string
  type?: string | string[]
  description?: string
  properties?: Record<string, Schema>
  required?: string[]
  items?: Schema
  allOf?: Schema[]
  oneOf?: Schema[]
  anyOf?: Schema[]
}
export type Content = Record<string, { schema?: Schema }>
export interface Operation {
  tags?: string[]
  summary?: string
  description?: string
  parameters?: { name: string; in: string; required?: boolean; description?: string }[]
  requestBody?: { content?: Content }
  responses?: Record<string, { description?: string; content?: Content }>
}
export interface OpenApi {
  info: { title: string; version: string; description?: string }
  paths: Record<string, Record<string, Operation>>
  components: { schemas: Record<string, Schema> }
}
