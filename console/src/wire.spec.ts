/**
 * The wire between console and service, for tests: what the console sends is kept, and answered
 * from a list. The service itself answers in the tests of e2e.
 */
import { beforeEach, vi } from 'vitest'
import { createPinia, setActivePinia } from 'pinia'

export interface Sent {
  method: string
  path: string
  query: Record<string, string>
  body: unknown
}

type Answer = unknown | ((sent: Sent) => unknown)

/** A refusal of the service: problem details with a status. */
export class Refusal {
  constructor(
    readonly status: number,
    readonly problem: unknown,
  ) {}
}

let answers: [RegExp, Answer][] = []
export let sent: Sent[] = []
export let streams: Stream[] = []

/** Says what requests are answered whose method and path match; the latest that matches counts. */
export function answer(request: string, with_: Answer) {
  answers.unshift([new RegExp(`^${request}$`), with_])
}

/** The requests that were sent, as METHOD path, without those before from. */
export function requests(from = 0): string[] {
  return sent.slice(from).map((s) => `${s.method} ${s.path}`)
}

/** A stream of server-sent events, which tests feed. */
export class Stream {
  closed = false
  onmessage?: (e: { data: string }) => void
  constructor(readonly url: string) {
    streams.push(this)
  }
  private named = new Map<string, (e: { data: string }) => void>()
  addEventListener(name: string, f: (e: { data: string }) => void) {
    this.named.set(name, f)
  }
  tell(state: unknown, name = '') {
    const f = name ? this.named.get(name) : this.onmessage
    f?.({ data: JSON.stringify(state) })
  }
  close() {
    this.closed = true
  }
}

class LocalRequest extends Request {
  constructor(input: RequestInfo | URL, init?: RequestInit) {
    super(typeof input === 'string' ? new URL(input, 'http://console') : input, init)
  }
}

async function respond(input: RequestInfo | URL): Promise<Response> {
  const request = input as Request
  const url = new URL(request.url)
  const text = await request.text()
  const one: Sent = { method: request.method, path: url.pathname, query: Object.fromEntries(url.searchParams), body: text ? JSON.parse(text) : undefined }
  sent.push(one)
  for (const [pattern, a] of answers) {
    if (!pattern.test(`${one.method} ${one.path}`)) continue
    const value = await (typeof a === 'function' ? a(one) : a)
    request.signal.throwIfAborted()
    if (value instanceof Error) throw value
    if (value instanceof Refusal) return Response.json(value.problem, { status: value.status })
    return value === undefined ? new Response(null, { status: 204 }) : Response.json(value)
  }
  return Response.json({ title: 'Not Found', detail: `no answer for ${one.method} ${one.path}` }, { status: 404 })
}

vi.stubGlobal('Request', LocalRequest)
vi.stubGlobal('fetch', respond)
vi.stubGlobal('EventSource', Stream)

beforeEach(() => {
  answers = []
  sent = []
  streams = []
  setActivePinia(createPinia())
})
