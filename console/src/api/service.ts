import createClient from 'openapi-fetch'
import { texts } from '../texts'
import type { components, paths } from './schema'

export type Schemas = components['schemas']
export type Case = Schemas['Case']
export type Member = Schemas['Member']
export type Evidence = Schemas['EvidenceInfo']
export type Peek = Schemas['Peek']
export type Frame = Schemas['Frame']
export type Thread = Schemas['Thread']
export type Variable = Schemas['Variable']
export type Checkpoint = Schemas['Checkpoint']
export type Hits = Schemas['Hits']
export type Sitting = Schemas['Sitting']
export type SittingStep = Schemas['SittingStep']
export type Pointing = Schemas['Pointing']
export type Place = Schemas['Place']
export type Lanes = Schemas['Lanes']
export type Origin = Schemas['Origin']
export type Ledger = Schemas['Ledger']
export type Search = Schemas['Search']
export type Conditions = Schemas['Conditions']
export type Story = Schemas['Story']
export type Races = Schemas['Races']
export type Overlaps = Schemas['OverlapAnswer']
export type Access = Schemas['Access']
export type Waits = Schemas['Waits']
export type Groups = Schemas['Groups']
export type Memory = Schemas['Memory']
export type Holders = Schemas['Holders']
export type Instructions = Schemas['Instructions']
export type Artifact = Schemas['Artifact']
export type Deleted = Schemas['Deleted']
export type NewCheckpoint = Schemas['NewCheckpoint']
export type Traces = Schemas['Traces']
export type Spans = Schemas['Spans']
export type Instant = Schemas['Instant']
export type Messages = Schemas['Messages']
export type Checks = Schemas['Checks']
export type CheckedIn = Schemas['CheckedIn']
export type Call = Schemas['Call']
export type Uses = Schemas['Uses']
export type Comparison = Schemas['Comparison']
export type Parting = Schemas['Parting']
export type Broken = Schemas['Broken']
export type RunPlace = Schemas['RunPlace']
export type Alike = Schemas['Alike']
export type Exhibit = Schemas['Exhibit']
export type Comment = Schemas['Comment']
export type Anchor = Schemas['Anchor']
export type Theory = Schemas['Theory']
export type Activity = Schemas['Activity']
export type Hook = Schemas['Hook']
export type Notices = Schemas['Notices']
export type Sender = Schemas['Sender']
export type Format = NonNullable<Schemas['SittingChange']['format']>
export type Mode = 'lead' | 'follow' | 'roam'

export const service = createClient<paths>({ credentials: 'same-origin' })

const unmasked = (caseName: string) => `unmasked ${caseName}`

/** Whether this tab of the browser shows what is masked in a case. */
export function showsSecrets(caseName: string): boolean {
  return sessionStorage.getItem(unmasked(caseName)) !== null
}

/** Shows what is masked in a case, or masks it again. Everything that was read is to be read again after this. */
export function showSecrets(caseName: string, shown: boolean) {
  if (shown) sessionStorage.setItem(unmasked(caseName), 'yes')
  else sessionStorage.removeItem(unmasked(caseName))
}

/** Adds to a question about evidence that it asks for what is masked. */
export function withSecrets(address: string): string {
  const url = new URL(address)
  const [, api, cases, caseName, evidence, , question] = url.pathname.split('/')
  if (api === 'api' && cases === 'cases' && evidence === 'evidence' && question && showsSecrets(decodeURIComponent(caseName))) url.searchParams.set('unmask', 'true')
  return url.toString()
}

service.use({
  async onRequest({ request }) {
    const address = withSecrets(request.url)
    if (address === request.url) return undefined
    const { method, headers, credentials, signal } = request
    return new Request(address, { method, headers, credentials, signal, body: method === 'GET' ? undefined : await request.blob() }) // a stream cannot be sent again
  },
})

/** An error answer of the service, in words for people. Status 0: there was no answer. */
export class ServiceError extends Error {
  constructor(
    message: string,
    readonly status: number,
  ) {
    super(message)
  }
}

interface Problem {
  detail?: string
  title?: string
  errors?: { message?: string; location?: string }[] | null
}

/** Returns the data of an answer, or throws a ServiceError. */
export async function data<T>(call: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let answer
  try {
    answer = await call
  } catch (e) {
    if (e instanceof DOMException && e.name === 'AbortError') throw e
    throw new ServiceError(texts.service.unreachable, 0)
  }
  if (answer.error !== undefined || !answer.response.ok) {
    const p = (answer.error ?? {}) as Problem
    const more = (p.errors ?? []).map((e) => e.message).filter(Boolean)
    throw new ServiceError([p.detail ?? p.title ?? texts.service.failed, ...more].join('; '), answer.response.status)
  }
  return answer.data as T
}

/** Sends a file as it is, and returns the answer. */
export function sent<T>(method: 'POST' | 'PUT', path: string, body: Blob): Promise<T> {
  return data<T>(
    fetch(path, { method, body, credentials: 'same-origin' }).then(async (response) => {
      const answer: unknown = await response.json().catch(() => undefined)
      return response.ok ? { data: answer as T, response } : { error: answer ?? {}, response }
    }),
  )
}

/** A duration in the unit that makes it short. */
export function duration(ns: number): string {
  const size = Math.abs(ns)
  if (size < 1e3) return `${ns} ns`
  if (size < 1e6) return `${(ns / 1e3).toFixed(1)} µs`
  if (size < 1e9) return `${(ns / 1e6).toFixed(1)} ms`
  return `${(ns / 1e9).toFixed(2)} s`
}

export function words(e: unknown): string {
  return e instanceof Error ? e.message : String(e)
}
