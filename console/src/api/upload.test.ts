import { beforeEach, describe, expect, test, vi } from 'vitest'
import { everyPage, usePages } from '../pages'
import { patience, upload } from './upload'

/** A service that takes uploads in parts, and breaks now and then as a list of faults says. */
class Parts {
  bytes = new Uint8Array()
  length = -1
  begun = 0
  done = false
  requests: string[] = []
  constructor(private faults: (undefined | 'lost' | 'half' | 'answer lost' | 503 | 'gone')[]) {}

  async fetch(path: string, init: RequestInit): Promise<Response> {
    const headers = new Headers(init.headers)
    this.requests.push(`${init.method} ${path}`)
    const fault = this.faults.shift()
    if (fault === 'lost') throw new TypeError('fetch failed')
    if (fault === 503) return new Response('{"detail":"busy"}', { status: 503 })
    if (fault === 'gone') [this.bytes, this.length] = [new Uint8Array(), -1]
    if (init.method === 'POST') {
      this.begun++
      this.length = Number(headers.get('Upload-Length'))
      this.bytes = new Uint8Array()
      return new Response(null, { status: 201, headers: { Location: `/api/cases/fog/uploads/${this.begun}` } })
    }
    if (this.length < 0) return new Response('{"detail":"not found"}', { status: 404 })
    if (init.method === 'HEAD') return new Response(null, { status: 200, headers: { 'Upload-Offset': String(this.bytes.length) } })
    if (Number(headers.get('Upload-Offset')) !== this.bytes.length) return new Response('{"detail":"wrong offset"}', { status: 409 })
    let part = new Uint8Array(await (init.body as Blob).arrayBuffer())
    if (fault === 'half') part = part.slice(0, part.length / 2)
    this.bytes = new Uint8Array([...this.bytes, ...part])
    if (fault === 'half' || fault === 'answer lost') throw new TypeError('the connection broke')
    this.done = this.bytes.length === this.length
    return this.done ? new Response('{}', { status: 201 }) : new Response(null, { status: 204 })
  }
}

const file = () => new Blob([Uint8Array.from({ length: 3000 }, (_, i) => i % 251)])

function serve(parts: Parts) {
  vi.stubGlobal('fetch', (path: string, init: RequestInit) => parts.fetch(path, init))
}

describe('an upload', () => {
  beforeEach(() => {
    localStorage.clear()
    patience.first = 1
    patience.most = 2
    patience.longest = 600_000
  })

  test.each([
    [[]],
    [['lost', undefined, 'lost', undefined, 'half', undefined, undefined] as const],
    [[undefined, undefined, 503, undefined, 'half', undefined, 'half'] as const],
    [[undefined, undefined, 'half', 'gone'] as const],
  ])('arrives whole after %j', async (faults) => {
    const parts = new Parts([...faults])
    serve(parts)
    const shares: number[] = []
    await upload({ caseName: 'fog', kind: 'evidence', name: 'run', file: file(), sent: (s) => shares.push(s) })
    expect(parts.bytes).toEqual(new Uint8Array(await file().arrayBuffer()))
    expect(parts.done).toBe(true)
    expect(shares[shares.length - 1]).toBe(1)
    expect(localStorage.length).toBe(0)
  })

  test('that was begun before is continued', async () => {
    const parts = new Parts([undefined, undefined, 'half', 'lost', 'lost', 'lost'])
    serve(parts)
    patience.longest = 1
    const one = { caseName: 'fog', kind: 'evidence' as const, name: 'run', file: file(), sent: () => undefined }
    await expect(upload(one)).rejects.toThrow('broke')
    expect(parts.bytes).toHaveLength(1500)
    patience.longest = 600_000
    await upload(one)
    expect(parts.begun).toBe(1)
    expect(parts.done).toBe(true)
  })

  test('that is refused is not sent again', async () => {
    const parts = new Parts([])
    serve(parts)
    vi.stubGlobal('fetch', async () => new Response('{"detail":"the name is taken"}', { status: 409 }))
    await expect(upload({ caseName: 'fog', kind: 'evidence', name: 'run', file: file(), sent: () => undefined })).rejects.toThrow('the name is taken')
  })
})

describe('a list in pages', () => {
  const all = Array.from({ length: 2300 }, (_, i) => `run-${i}`)
  const page = async (q: { text?: string; after?: string; count: number }) => {
    const found = all.filter((x) => !q.text || x.includes(q.text))
    const from = q.after ? found.indexOf(q.after) + 1 : 0
    return found.slice(from, from + q.count)
  }

  test('is read as a whole', async () => {
    expect(await everyPage(page, (x) => x)).toEqual(all)
  })

  test('is read page by page, and as far again', async () => {
    const p = usePages(page, (x) => x, 100)
    await p.load()
    await p.more()
    expect(p.list.value).toEqual(all.slice(0, 200))
    await p.load()
    expect(p.list.value).toEqual(all.slice(0, 200))
    expect(p.mayBeMore.value).toBe(true)
    p.text.value = ' 229 '
    await p.find()
    expect(p.list.value).toEqual(all.filter((x) => x.includes('229')))
    expect(p.mayBeMore.value).toBe(false)
  })
})
