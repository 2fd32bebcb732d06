/** What the search page asks. The URL holds all of it; the request and the command are made from it. */

import type { LocationQuery } from 'vue-router'
import { Refusal } from '../../api/http'
import type { SearchRequest } from '../../api/shapes'
import { quoted } from '../../api/words'

export type Mode = 'text' | 'example' | 'vector'
/** Names in the URL are those of the request. */
export type UrlQuery = Record<string, string>

export interface SearchForm {
  mode: Mode
  /** The text, the keys with commas between them, or the vector as JSON. */
  query: string
  filter: string
  k: number
  beam: number | null
  visit: number | null
  column: string
  compare: boolean
  counterexamples: string
  scoreAtLeast: number | null
  /** At most `most` hits that share a value of `each`. */
  each: string
  most: number
  sort: string
  skip: number
  leaveOut: string
  follow: string[]
  timeLimit: number | null
  cards: boolean
  plan: boolean
  /** Whether the rarer options are shown. */
  more: boolean
}

/** Keys with commas between them. */
export const keysOf = (text: string) => text.split(',').map((k) => k.trim()).filter((k) => k)

export function formOf(q: LocationQuery): SearchForm {
  const text = (v: unknown) => (typeof v === 'string' ? v : '')
  const number = (v: unknown) => (text(v) === '' || Number.isNaN(Number(v)) ? null : Number(v))
  const mode: Mode = q.example ? 'example' : q.vector ? 'vector' : 'text'
  const [each, most] = text(q.at_most).split('=')
  const form: SearchForm = {
    mode,
    query: text(q[mode]),
    filter: text(q.filter),
    k: number(q.k) || 10,
    beam: number(q.beam),
    visit: number(q.visit),
    column: text(q.column),
    compare: q.compare !== '0',
    counterexamples: text(q.counterexample),
    scoreAtLeast: number(q.score_at_least),
    each: each ?? '',
    most: Number(most) || 1,
    sort: text(q.sort),
    skip: number(q.skip) || 0,
    leaveOut: text(q.leave_out),
    follow: keysOf(text(q.follow)),
    timeLimit: number(q.time_limit_ms),
    cards: q.view === 'cards',
    plan: q.plan === '1',
    more: false,
  }
  form.more = !!(form.counterexamples || form.scoreAtLeast !== null || form.each || form.sort || form.leaveOut || form.follow.length || form.timeLimit)
  return form
}

/** A changed search begins with the first hits: `skip` is left out. */
export function urlOf(form: SearchForm): UrlQuery {
  const query: UrlQuery = { [form.mode]: form.query }
  if (form.filter.trim()) query.filter = form.filter
  if (form.k !== 10) query.k = String(form.k)
  if (form.beam) query.beam = String(form.beam)
  if (form.visit) query.visit = String(form.visit)
  if (form.column) query.column = form.column
  if (!form.compare) query.compare = '0'
  if (form.counterexamples.trim()) query.counterexample = form.counterexamples
  if (form.scoreAtLeast !== null) query.score_at_least = String(form.scoreAtLeast)
  if (form.each) query.at_most = `${form.each}=${form.most}`
  if (form.sort) query.sort = form.sort
  if (form.leaveOut.trim()) query.leave_out = form.leaveOut
  if (form.follow.length) query.follow = form.follow.join(',')
  if (form.timeLimit) query.time_limit_ms = String(form.timeLimit)
  if (form.cards) query.view = 'cards'
  if (form.plan) query.plan = '1'
  return query
}

function vectorOf(text: string): number[] {
  let vector: unknown
  try {
    vector = JSON.parse(text)
  } catch {
    vector = null
  }
  if (Array.isArray(vector) && vector.every((x) => typeof x === 'number')) return vector
  throw new Refusal('wrong-vector', 'This is not a vector', 'Write a JSON array of numbers, such as [0.1, -0.2, 0.3].')
}

/** Throws a Refusal when the vector is not one. */
export function requestOf(form: SearchForm): SearchRequest {
  const request: SearchRequest = { k: form.k }
  if (form.mode === 'vector') request.vector = vectorOf(form.query)
  else if (form.mode === 'example') request.examples = keysOf(form.query)
  else request.text = form.query
  if (keysOf(form.counterexamples).length) request.counterexamples = keysOf(form.counterexamples)
  if (form.scoreAtLeast !== null) request.score_at_least = form.scoreAtLeast
  if (form.each) request.at_most = { field: form.each, hits: form.most }
  if (form.sort) request.sort = form.sort
  if (form.skip) request.skip = form.skip
  if (keysOf(form.leaveOut).length) request.leave_out = keysOf(form.leaveOut)
  if (form.follow.length) request.follow = form.follow
  if (form.timeLimit) request.time_limit_ms = form.timeLimit
  if (form.filter.trim()) request.filter = form.filter
  if (form.beam || form.visit) request.settings = { ...(form.beam ? { beam: form.beam } : {}), ...(form.visit ? { visit: form.visit } : {}) }
  if (form.column) request.column = form.column
  return request
}

/** The equal `zesty` command. */
export function commandOf(collection: string, form: SearchForm): string {
  const parts = ['zesty search', quoted(collection)]
  if (form.mode === 'example') parts.push(...keysOf(form.query).map((k) => `--example ${quoted(k)}`))
  else parts.push(form.mode === 'text' ? quoted(form.query) : `--vector ${quoted(form.query)}`)
  parts.push(...keysOf(form.counterexamples).map((k) => `--counterexample ${quoted(k)}`))
  if (form.filter.trim()) parts.push(`--filter ${quoted(form.filter)}`)
  if (form.k !== 10) parts.push(`-k ${form.k}`)
  if (form.beam) parts.push(`--beam ${form.beam}`)
  if (form.visit) parts.push(`--visit ${form.visit}`)
  if (form.column) parts.push(`--column ${quoted(form.column)}`)
  if (form.scoreAtLeast !== null) parts.push(`--score-at-least ${form.scoreAtLeast}`)
  if (form.each) parts.push(`--at-most ${quoted(`${form.each}=${form.most}`)}`)
  if (form.sort) parts.push(`--sort ${quoted(form.sort)}`)
  if (form.skip) parts.push(`--skip ${form.skip}`)
  parts.push(...keysOf(form.leaveOut).map((k) => `--leave-out ${quoted(k)}`))
  parts.push(...form.follow.map((f) => `--follow ${quoted(f)}`))
  if (form.timeLimit) parts.push(`--time-limit ${form.timeLimit}`)
  if (form.compare) parts.push('--compare')
  else if (form.plan) parts.push('--explain')
  return parts.join(' ')
}
