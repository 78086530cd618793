import { beforeEach, expect, test } from 'vitest'
import { createPinia, setActivePinia } from 'pinia'
import { answer, requests, sent, streams } from '../wire.spec'
import { useKept } from './kept'
import { useTrouble } from './trouble'

const settled = () => new Promise((r) => setTimeout(r, 20))
let comments: { id: number; text: string }[]

beforeEach(() => {
  setActivePinia(createPinia())
  comments = [{ id: 1, text: 'first' }]
  for (const name of ['fog', 'swell']) {
    answer(`GET /api/cases/${name}/exhibits`, [{ id: 3, evidence: 'run' }])
    answer(`GET /api/cases/${name}/comments`, () => [...comments])
    answer(`GET /api/cases/${name}/theories`, [])
    answer(`POST /api/cases/${name}/comments`, () => {
      comments.push({ id: 2, text: 'second' })
      return comments[1]
    })
  }
})

test('what is kept is loaded, and again when somebody does something', async () => {
  const kept = useKept()
  kept.open('fog')
  await settled()
  expect(kept.comments.map((c) => c.id)).toEqual([1])
  expect(streams.at(-1)?.url).toBe('/api/cases/fog/events')
  comments.push({ id: 5, text: 'by somebody' })
  streams.at(-1)?.tell({ id: 9 })
  await settled()
  expect(kept.comments.map((c) => c.id)).toEqual([1, 5])
})

test('a deed is sent and shown; one that is refused says why', async () => {
  const kept = useKept()
  kept.open('fog')
  await settled()
  expect(await kept.say('second', { evidence: 'run' })).toBe(true)
  expect(sent.find((s) => s.method === 'POST')?.body).toEqual({ text: 'second', anchor: { evidence: 'run' }, parent: 0 })
  expect(kept.comments).toHaveLength(2)
  expect(await kept.unsay(7)).toBe(false)
  expect(useTrouble().trouble).not.toBe('')
})

test('a page that is left closes what it opened, and nothing that another page has opened since', async () => {
  const kept = useKept()
  const closeFirst = kept.open('fog')
  await settled()
  const first = streams.at(-1)
  const closeSecond = kept.open('swell')
  await settled()
  closeFirst()
  expect(first?.closed).toBe(true)
  expect(kept.caseName).toBe('swell')
  expect(streams.at(-1)?.closed).toBe(false)
  closeSecond()
  expect(streams.at(-1)?.closed).toBe(true)
  expect(kept.exhibits).toEqual([])
  expect(requests()).toContain('GET /api/cases/swell/exhibits')
})
