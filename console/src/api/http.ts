/** Calls over HTTP. Every failure is a Refusal with words that a person can act on. */

/** Where a filter or a recipe is wrong. */
export interface Place {
  start: number
  end: number
  line: number
  column: number
  message: string
}

export class Refusal extends Error {
  /** The last part of the problem's type, such as `unknown-name`. */
  readonly word: string
  readonly title: string
  readonly requestId: string
  readonly at: Place | null
  /** The HTTP status; 0 when no answer came. */
  readonly status: number

  constructor(word: string, title: string, detail: string, more: { requestId?: string; at?: Place | null; status?: number } = {}) {
    super(detail)
    this.word = word
    this.title = title
    this.requestId = more.requestId ?? ''
    this.at = more.at ?? null
    this.status = more.status ?? 0
  }
}

/** What went wrong, as a Refusal. An error of the console itself is said to be one. */
export function asRefusal(error: unknown): Refusal {
  if (error instanceof Refusal) return error
  const detail = error instanceof Error ? error.message : String(error)
  return new Refusal('console-fault', 'The console made a mistake', `${detail}. Reload the page; nothing was lost in the service.`)
}

export const isAbort = (error: unknown) => error instanceof DOMException && error.name === 'AbortError'

export async function call<T>(method: string, path: string, options: { body?: unknown; signal?: AbortSignal } = {}): Promise<T> {
  const { body, signal } = options
  let response: Response
  let text: string
  try {
    response = await fetch(path, {
      method,
      signal: signal ?? null,
      headers: body === undefined ? {} : { 'Content-Type': 'application/json' },
      body: body === undefined ? null : JSON.stringify(body),
    })
    text = await response.text()
  } catch (error) {
    if (isAbort(error)) throw error
    throw unreachable()
  }
  if (!response.ok) throw refusal(response.status, text, response.headers.get('x-request-id'))
  return (text === '' ? undefined : JSON.parse(text)) as T
}

export const unreachable = () =>
  new Refusal(
    'unreachable',
    'The service does not answer',
    'The browser got no answer. Check that the service is running: bin/demo starts it. Then try again.',
  )

/** What a body of Problem Details says. */
function refusal(status: number, text: string, requestId: string | null): Refusal {
  let p: Record<string, unknown> = {}
  try {
    p = JSON.parse(text) as Record<string, unknown>
  } catch {
    // It is not Problem Details; the status has to do.
  }
  const word = typeof p.type === 'string' ? (p.type.split(':').pop() ?? '') : ''
  return new Refusal(
    word || 'unknown',
    typeof p.title === 'string' ? p.title : `The service answered ${status}`,
    typeof p.detail === 'string' ? p.detail : text.slice(0, 300),
    { requestId: typeof p.request_id === 'string' ? p.request_id : (requestId ?? ''), at: (p.at as Place | undefined) ?? null, status },
  )
}

/** Sends the rest of a file from `offset`, and says how many bytes are sent. */
export function send<T>(path: string, file: File, offset: number, progress: (sent: number) => void): Promise<T> {
  return new Promise((done, failed) => {
    // fetch does not say how much of a body is sent.
    const request = new XMLHttpRequest()
    request.open('PUT', path)
    request.setRequestHeader('Content-Type', 'application/octet-stream')
    request.upload.onprogress = (e) => progress(offset + e.loaded)
    request.onerror = () =>
      failed(new Refusal('unreachable', 'The upload broke off', 'Choose the file again. The upload continues where it stopped.'))
    request.onload = () => {
      if (request.status < 300) done(JSON.parse(request.responseText) as T)
      else failed(refusal(request.status, request.responseText, request.getResponseHeader('x-request-id')))
    }
    request.send(file.slice(offset))
  })
}
