import { beforeEach, describe, expect, test } from 'vitest'
import type { Checkpoint, Place, Sitting, SittingStep } from '../api/service'
import { answer, Refusal, requests, sent, streams } from '../wire.spec'
import type { Sent } from '../wire.spec'
import { useCheckpoints } from './checkpoints'
import { useDrawer } from './drawer'
import { useEvidence } from './evidence'
import { useFrame } from './frame'
import { useLedger } from './ledger'
import { useLookups } from './lookups'
import { useSession } from './session'
import { useSitting } from './sitting'
import { useTrouble } from './trouble'

const base = '/api/cases/fog/evidence/run'
const place = (moment: number, thread = '1', frame = 0): Place => ({ moment, thread, frame })
const traits = { history: true, lines: true, memory: false, traces: false, messages: false, clock: true }
const frames = ['main.assign', 'main.main'].map((name) => ({ function: name, file: `/src/${name}.go`, line: 3 }))

/** The state of a sitting at a moment, as one of the people in it sees it. */
function state(version: number, at: Place, here: [string, string][] = [['Ines', 'lead']]): Sitting {
  return { id: 7, case: 'fog', evidence: 'run', place: at, version, leader: here.find(([, mode]) => mode === 'lead')?.[0], watches: [], columns: [], format: '', here: here.map(([name, mode]) => ({ name, mode, place: at, mayLead: true })) } as Sitting
}

function checkpoint(id: number, more: Partial<Checkpoint> = {}): Checkpoint {
  return { id, on: `line berth.go:${id}`, kind: 'line', file: '/src/main.assign.go', line: id, when: '', nth: '', thread: 0, evidence: '', moment: 0, frame: 0, show: [], enabled: true, ...more } as Checkpoint
}

/** Answers as a service does that has one recording, with some checkpoints. */
function aService(checkpoints: Checkpoint[] = [], history = true) {
  answer(`GET ${base}/peek`, { evidence: { kind: 'execution-log', moments: 100, traits: { ...traits, history } } })
  answer(`GET ${base}/stack`, (s: Sent) => ({ threads: [{ id: s.query.thread ?? '5', frames }] }))
  answer(`GET ${base}/values`, (s: Sent) => ({ variables: [{ name: 'n', value: s.query.moment, state: 'known' }] }))
  answer(`GET ${base}/file`, (s: Sent) => ({ text: `text of ${s.query.file}`, lines: [1, 3] }))
  answer(`GET ${base}/source`, (s: Sent) => ({ lines: [2, 3, 4].map((line) => ({ line, hits: line === 2 ? -1 : line === 3 ? Number(s.query.moment) : 0 })) }))
  answer(`GET ${base}/lanes`, (s: Sent) => ({ from: Number(s.query.from), to: Number(s.query.to), lanes: [] }))
  answer(`GET ${base}/hits`, (s: Sent) => ({ total: 250, hits: Array.from({ length: Number(s.query.count) }, (_, i) => ({ moment: i })), undecided: 0, trouble: '' }))
  answer(`GET ${base}/density`, { counts: [1, 2, 3] })
  answer('GET /api/cases/fog/checkpoints', () => checkpoints)
  answer('POST /api/cases/fog/checkpoints', (s: Sent) => {
    const c = checkpoint(90 + checkpoints.length, s.body as Partial<Checkpoint>)
    checkpoints.push(c)
    return c
  })
  answer('DELETE /api/cases/fog/checkpoints/\\d+', (s: Sent) => {
    checkpoints.splice(checkpoints.findIndex((c) => s.path.endsWith(`/${c.id}`)), 1)
    return undefined
  })
  answer(`GET ${base}/sitting`, state(1, place(40), []))
  let mode = 'lead'
  answer(`POST ${base}/sitting`, (s: Sent) => {
    mode = (s.body as { mode?: string }).mode ?? 'lead'
    return state(1, place(40), [['Ines', mode]])
  })
  answer('GET /api/sittings/7/steps', [{ id: 3, by: 'Tomas', at: '2026-03-01T06:00:00Z', kind: 'say', place: place(30), text: 'here' }])
  answer('POST /api/sittings/7/say', undefined)
  answer('PATCH /api/sittings/7', (s: Sent) => {
    const body = s.body as { mode?: string; place?: Place }
    if (body.mode) mode = body.mode
    return state(2, body.place ?? place(40), [['Ines', mode]])
  })
}

async function opened(history = true, checkpoints: Checkpoint[] = []) {
  aService(checkpoints, history)
  const sitting = useSitting()
  await sitting.open('fog', 'run', 'Ines')
  expect(useTrouble().trouble).toBe('')
  return sitting
}

describe('trouble', () => {
  test('is that of the last attempt, and an attempt that was given up is none', async () => {
    const { attempt } = useTrouble()
    await attempt(async () => Promise.reject(new Error('fog')))
    expect(useTrouble().trouble).toBe('fog')
    await attempt(async () => undefined)
    expect(useTrouble().trouble).toBe('')
    await attempt(async () => Promise.reject(new DOMException('gone', 'AbortError')))
    expect(useTrouble().trouble).toBe('')
    await attempt(async () => Promise.reject(new DOMException('other', 'DataError')))
    expect(useTrouble().trouble).toBe('other')
  })
})

describe('session', () => {
  test('asks once who is signed in', async () => {
    answer('GET /api/me', { name: 'Ines' })
    const session = useSession()
    await session.find()
    await session.find()
    expect(session.name).toBe('Ines')
    expect(requests()).toEqual(['GET /api/me'])
  })

  test('nobody is signed in after a refusal, and other trouble is not hidden', async () => {
    answer('GET /api/me', new Refusal(503, { detail: 'no database' }))
    const session = useSession()
    await expect(session.find()).rejects.toThrow('no database')
    expect(session.known).toBe(false)
    answer('GET /api/me', new Refusal(401, { detail: 'not signed in' }))
    await session.find()
    expect(session.known).toBe(true)
    expect(session.name).toBe('')
  })

  test('signs in and out', async () => {
    answer('POST /api/sessions', (s: Sent) => ({ name: (s.body as { name: string }).name }))
    answer('DELETE /api/sessions', undefined)
    const session = useSession()
    await session.signIn('Tomas', 'secret')
    expect(sent[0].body).toEqual({ name: 'Tomas', password: 'secret' })
    expect([session.name, session.known]).toEqual(['Tomas', true])
    await session.signOut()
    expect(session.name).toBe('')
    answer('POST /api/sessions', new Refusal(401, { detail: 'wrong name or password' }))
    await expect(session.signIn('Tomas', 'x')).rejects.toThrow('wrong name or password')
    expect(session.name).toBe('')
  })
})

describe('evidence', () => {
  test('can do what its traits say', async () => {
    const evidence = useEvidence()
    expect([evidence.kind, evidence.moments, evidence.isSnapshot, evidence.hasLines]).toEqual(['', 0, false, false])
    aService([], false)
    await evidence.open('fog', 'run')
    expect([evidence.kind, evidence.moments, evidence.isSnapshot, evidence.hasLines]).toEqual(['execution-log', 100, true, true])
    await evidence.loadLanes(10, 20)
    expect(evidence.lanes).toMatchObject({ from: 10, to: 20 })
    await evidence.open('fog', 'run')
    expect(evidence.lanes).toBeUndefined()
  })
})

describe('drawer', () => {
  test('opens a tab that the evidence has', async () => {
    const drawer = useDrawer()
    const evidence = useEvidence()
    aService([], false)
    await evidence.open('fog', 'run')
    drawer.open()
    expect(drawer.tab).toBe('threads')
    aService([], true)
    await evidence.open('fog', 'run')
    drawer.open()
    expect(drawer.tab).toBe('hits')
    drawer.tab = 'ledger'
    drawer.open()
    expect(drawer.tab).toBe('ledger')
  })
})

describe('frame', () => {
  beforeEach(async () => {
    aService()
    await useEvidence().open('fog', 'run')
  })

  test('shows stack, values and source of a place, and what the values were before', async () => {
    const here = useFrame()
    await here.load(place(4))
    expect(here.place).toEqual(place(4))
    expect(here.frame?.function).toBe('main.assign')
    expect(here.values[0].value).toBe('4')
    expect(here.before.size).toBe(0)
    expect([here.file, here.text, here.lines]).toEqual(['/src/main.assign.go', 'text of /src/main.assign.go', [1, 3]])
    expect(here.busy).toBe(false)
    const from = sent.length
    await here.load(place(9))
    expect(here.before.get('n')).toBe('4')
    expect(requests(from)).not.toContain(`GET ${base}/file`)
    await here.load(place(9, '1', 1))
    expect(here.before.size).toBe(0)
    expect(here.file).toBe('/src/main.main.go')
  })

  test('a frame without values or source is shown all the same', async () => {
    answer(`GET ${base}/values`, new Refusal(422, { detail: 'no such frame' }))
    answer(`GET ${base}/file`, new Refusal(422, { detail: 'no source text' }))
    const here = useFrame()
    await here.load(place(4))
    expect(here.values).toEqual([])
    expect([here.text, here.lines]).toEqual(['no source text', []])
  })

  test('the lines of the call have how often they ran', async () => {
    await opened()
    const here = useFrame()
    await here.load(place(7))
    await expect.poll(() => here.ran).toEqual(new Map([[3, 7], [4, 0]]))
    answer(`GET ${base}/source`, new Refusal(422, { detail: 'no source text' }))
    await here.load(place(8))
    await expect.poll(() => here.ran.size).toBe(0)
  })

  test('a place that fails changes nothing', async () => {
    const here = useFrame()
    await here.load(place(4))
    answer(`GET ${base}/stack`, new Refusal(422, { detail: 'out of range' }))
    await expect(here.load(place(1e9))).rejects.toThrow('out of range')
    expect(here.place).toEqual(place(4))
    expect(here.busy).toBe(false)
  })

  test('of two places that are loaded at once, the last one counts', async () => {
    const here = useFrame()
    let release = () => {}
    const held = new Promise<void>((r) => (release = r))
    answer(`GET ${base}/stack`, async (s: Sent) => {
      if (s.query.moment === '4') await held
      return { threads: [{ id: '1', frames }] }
    })
    const first = here.load(place(4)).catch((e) => e.name)
    const second = here.load(place(9))
    await second
    release()
    expect(await first).toBe('AbortError')
    expect(here.place).toEqual(place(9))
    expect(here.values[0].value).toBe('9')
  })

  test('another format of numbers does not give up the place that is being loaded', async () => {
    const here = useFrame()
    await here.load(place(40))
    const going = here.load(place(41))
    await here.write('hex')
    await going
    expect(here.place).toEqual(place(41))
    expect(sent.filter((s) => s.path === `${base}/values`).map((s) => [s.query.moment, s.query.format])).toEqual([['40', undefined], ['41', undefined], ['41', 'hex']])
    await here.write('')
    expect(sent.filter((s) => s.path === `${base}/values`).at(-1)?.query.format).toBeUndefined()
  })

  test('asks at its place', async () => {
    const here = useFrame()
    await here.load(place(4, '2', 1))
    answer(`GET ${base}/ask`, { value: '5' })
    answer(`GET ${base}/parts`, { total: 0, parts: [] })
    expect(await here.ask('n + 1')).toEqual({ value: '5' })
    expect(sent.at(-1)?.query).toEqual({ moment: '4', thread: '2', frame: '1', expression: 'n + 1' })
    await here.parts('berths', 20, 10)
    expect(sent.at(-1)?.query).toEqual({ moment: '4', thread: '2', frame: '1', path: 'berths', from: '20', count: '10' })
    expect(await here.threadAt(12)).toBe('5')
  })
})

describe('checkpoints', () => {
  test('are asked for as they are set', async () => {
    const checkpoints = useCheckpoints()
    expect(checkpoints.on(checkpoint(1))).toEqual({ on: 'line berth.go:1', when: undefined, nth: undefined, onThread: undefined })
    expect(checkpoints.on(checkpoint(1, { when: 'n > 1', nth: 'last', thread: 3 }))).toEqual({ on: 'line berth.go:1', when: 'n > 1', nth: 'last', onThread: '3' })
    expect(checkpoints.on(checkpoint(1, { evidence: 'run', moment: 40, thread: 3, frame: 2 }))).toMatchObject({ moment: 40, thread: '3', frame: 2 })
  })

  test('are counted in this recording; those of another one are not', async () => {
    await opened(true, [checkpoint(1), checkpoint(2, { evidence: 'other' }), checkpoint(3, { evidence: 'run' })])
    const checkpoints = useCheckpoints()
    expect([...checkpoints.totals.keys()].sort()).toEqual([1, 3])
    expect(checkpoints.chosen).toBe(1)
    expect(checkpoints.hits?.hits).toHaveLength(100)
    expect(checkpoints.density).toEqual([1, 2, 3])
    answer(`GET ${base}/hits`, { total: 2, hits: [{ moment: 4 }, { moment: 6 }], undecided: 0, trouble: '' })
    await checkpoints.choose(3)
    expect(checkpoints.density).toEqual([])
    await checkpoints.choose(4711)
    expect(checkpoints.hits).toBeUndefined()
    checkpoints.close()
    expect([checkpoints.chosen, checkpoints.hits]).toEqual([0, undefined])
  })

  test('a page of hits starts where it is asked to, and keeps the density', async () => {
    await opened(true, [checkpoint(1)])
    const checkpoints = useCheckpoints()
    const from = sent.length
    await checkpoints.choose(1, 200)
    expect(sent.at(-1)?.query).toMatchObject({ on: 'line berth.go:1', from: '200', count: '100' })
    expect(requests(from)).toEqual([`GET ${base}/hits`])
  })

  test('a click on the margin sets one, and the next click deletes it', async () => {
    await opened()
    const checkpoints = useCheckpoints()
    await checkpoints.toggle(12)
    expect(checkpoints.list).toHaveLength(1)
    expect(checkpoints.list[0].on).toBe('line /src/main.assign.go:12')
    expect(checkpoints.chosen).toBe(checkpoints.list[0].id)
    checkpoints.list[0].line = 12
    await checkpoints.toggle(12)
    expect(requests()).toContain('DELETE /api/cases/fog/checkpoints/90')
    expect(checkpoints.list).toHaveLength(0)
    expect(checkpoints.chosen).toBe(0)
  })

  test('one on writes belongs to where the value is reached', async () => {
    await opened()
    await useFrame().load(place(44, '3', 1))
    await useCheckpoints().watchWrites('quay.Depth')
    const set = sent.find((s) => s.method === 'POST' && s.path.endsWith('/checkpoints'))
    expect(set?.body).toEqual({ on: 'write quay.Depth', moment: 44, thread: 3, frame: 1, evidence: 'run' })
    expect(useDrawer().tab).toBe('hits')
  })

  test('change, switch and remove are sent, and the list is read again', async () => {
    const list = [checkpoint(1), checkpoint(2)]
    await opened(true, list)
    answer('PATCH /api/cases/fog/checkpoints/1', list[0])
    answer('PATCH /api/cases/fog/checkpoints', undefined)
    const checkpoints = useCheckpoints()
    await checkpoints.change(list[0], { when: 'n > 2' })
    expect(sent.find((s) => s.method === 'PATCH')?.body).toEqual({ when: 'n > 2' })
    await checkpoints.switchAll(false)
    expect(sent.filter((s) => s.method === 'PATCH').at(-1)?.body).toEqual({ enabled: false })
    const reads = requests().filter((r) => r === 'GET /api/cases/fog/checkpoints').length
    await checkpoints.remove(list[1])
    expect(checkpoints.list.map((c) => c.id)).toEqual([1])
    expect(requests().filter((r) => r === 'GET /api/cases/fog/checkpoints')).toHaveLength(reads + 1)
  })

  test('a refusal is shown, and the list stays', async () => {
    await opened(true, [checkpoint(1)])
    answer('POST /api/cases/fog/checkpoints', new Refusal(422, { detail: 'no code there' }))
    await useCheckpoints().add({ on: 'enter Fog' })
    expect(useTrouble().trouble).toBe('no code there')
    expect(useCheckpoints().list).toHaveLength(1)
  })
})

describe('ledger', () => {
  test('has the columns that were added, once, and rows of a call or of hits', async () => {
    await opened(true, [checkpoint(1, { when: 'n > 1' }), checkpoint(2, { evidence: 'run' })])
    answer(`POST ${base}/ledger`, (s: Sent) => ({ columns: (s.body as { columns: string[] }).columns, rows: [], total: 0 }))
    const ledger = useLedger()
    await ledger.addColumn('n')
    await ledger.addColumn('n')
    await ledger.addColumn('n + 1')
    expect(useDrawer().tab).toBe('ledger')
    expect(sent.at(-1)?.body).toEqual({ ...place(40), call: true, columns: ['n', 'n + 1'], from: 0, count: 50 })
    await ledger.turn(50)
    expect(sent.at(-1)?.body).toMatchObject({ from: 50 })
    await ledger.chooseRows('hits')
    expect(sent.at(-1)?.body).toMatchObject({ call: false, from: 0, hits: { on: 'line berth.go:1', when: 'n > 1' } })
    await useCheckpoints().choose(2)
    await ledger.turn(0)
    expect(sent.at(-1)?.body).toMatchObject({ call: true }) // one on writes has no rows of its own
    await ledger.dropColumn('n')
    expect(ledger.table).toMatchObject({ columns: ['n + 1'] })
    await ledger.dropColumn('n + 1')
    expect(ledger.table).toBeUndefined()
    await ledger.addColumn('n')
    ledger.close()
    expect([ledger.table, ledger.columns, ledger.rows]).toEqual([undefined, [], 'call'])
  })

  test('has the columns of the sitting, unless one wants columns of one\'s own', async () => {
    await opened(true, [])
    answer(`POST ${base}/ledger`, (s: Sent) => ({ columns: (s.body as { columns: string[] }).columns, rows: [], total: 0 }))
    const ledger = useLedger()
    const told: string[][] = []
    const change = async (columns: string[]) => void told.push(columns)
    await ledger.adopt(['depth'], change)
    expect(ledger.table).toMatchObject({ columns: ['depth'] })
    const reads = sent.length
    await ledger.adopt(['depth'], change)
    expect(sent).toHaveLength(reads) // nothing has changed
    await ledger.addColumn('draught')
    expect(told).toEqual([['depth', 'draught']])
    ledger.isShared = false
    await ledger.addColumn('mine')
    await ledger.adopt(['others'], change)
    expect(ledger.columns).toEqual(['depth', 'draught', 'mine'])
    expect(told).toHaveLength(1)
  })
})

describe('lookups', () => {
  test('explain a value from here or from a place, and search', async () => {
    await opened()
    answer(`GET ${base}/origin`, { steps: [] })
    answer(`GET ${base}/search`, { total: 0, found: [] })
    const lookups = useLookups()
    const from = sent.length
    await lookups.explain('')
    expect(sent).toHaveLength(from)
    await lookups.explain('n')
    expect(sent.at(-1)?.query).toEqual({ moment: '40', thread: '1', frame: '0', path: 'n' })
    expect(useDrawer().tab).toBe('why')
    await lookups.explain('n', place(7, '2', 3))
    expect(sent.at(-1)?.query).toEqual({ moment: '7', thread: '2', frame: '3', path: 'n' })
    await lookups.search('fog', 20, 10)
    expect(sent.at(-1)?.query).toEqual({ text: 'fog', from: '20', count: '10' })
    expect([lookups.origin, lookups.found]).toEqual([{ steps: [] }, { total: 0, found: [] }])
    lookups.close()
    expect([lookups.origin, lookups.found]).toEqual([undefined, undefined])
  })

  test('tell why a line ran or did not, the life of a value, and races', async () => {
    await opened()
    const conditions = { conditions: [], note: '', happened: -1 }
    answer(`GET ${base}/reached`, conditions)
    answer(`GET ${base}/missed`, { ...conditions, note: 'no call came near it' })
    answer(`GET ${base}/story`, { total: 0, lives: 1, steps: [] })
    answer(`GET ${base}/races`, { total: 0, races: [], unexamined: 0 })
    answer(`GET ${base}/overlap`, { total: 0, overlaps: [], undecided: 0, trouble: '' })
    const lookups = useLookups()
    await lookups.reached()
    expect(sent.at(-1)?.query).toEqual({ moment: '40', thread: '1', frame: '0' })
    expect([useDrawer().tab, lookups.conditions, lookups.missing]).toEqual(['line', conditions, undefined])
    await lookups.missed({ enter: 'assign' })
    expect(sent.at(-1)?.query).toEqual({ moment: '40', thread: '1', frame: '0', enter: 'assign' })
    expect([lookups.conditions?.note, lookups.missing]).toEqual(['no call came near it', { enter: 'assign' }])
    const from = sent.length
    await lookups.tell('', 0, 10)
    expect(sent).toHaveLength(from)
    await lookups.tell('quay', 10, 5)
    expect(sent.at(-1)?.query).toEqual({ moment: '40', thread: '1', frame: '0', of: 'quay', from: '10', count: '5' })
    expect([useDrawer().tab, lookups.storyOf]).toEqual(['story', 'quay'])
    await lookups.findRaces()
    await lookups.findOverlaps('assign', 'v.name')
    expect(sent.at(-1)?.query).toEqual({ enter: 'assign', by: 'v.name' })
    expect([lookups.races?.total, lookups.overlaps?.total]).toEqual([0, 0])
    lookups.close()
    expect([lookups.conditions, lookups.story, lookups.races, lookups.overlaps]).toEqual([undefined, undefined, undefined, undefined])
  })
})

describe('sitting', () => {
  test('opens where the sitting is, with its stream, checkpoints and lanes', async () => {
    const sitting = await opened()
    expect(useFrame().place).toEqual(place(40))
    expect(sitting.mode).toBe('lead')
    expect(streams.map((s) => s.url)).toEqual(['/api/sittings/7/events'])
    expect(requests()).toContain('GET /api/cases/fog/checkpoints')
    expect(requests()).not.toContain('PATCH /api/sittings/7')
    sitting.close()
    expect(streams[0].closed).toBe(true)
    expect(sitting.state).toBeUndefined()
    expect(sitting.mode).toBe('follow')
  })

  test('evidence of one moment has no checkpoints and lanes', async () => {
    await opened(false)
    expect(requests().filter((r) => /checkpoints|lanes/.test(r))).toEqual([])
  })

  test('a link to another place opens it there, alone', async () => {
    aService()
    const sitting = useSitting()
    await sitting.open('fog', 'run', 'Ines', place(55, '', 1))
    expect(sent.find((s) => s.method === 'POST')?.body).toEqual({ mode: 'roam' })
    expect(sent.find((s) => s.method === 'PATCH')?.body).toEqual({ place: place(55, '5', 1) })
    expect(useFrame().place).toEqual(place(55, '5', 1))
    expect(sitting.apart).toBe(false)
  })

  test('whoever leads keeps the lead when a link is opened, and takes nobody along', async () => {
    aService()
    answer(`GET ${base}/sitting`, state(1, place(40)))
    const sitting = useSitting()
    await sitting.open('fog', 'run', 'Ines', place(55, '5'))
    expect(requests()).not.toContain('PATCH /api/sittings/7')
    expect(useFrame().place).toEqual(place(55, '5'))
    expect([sitting.mode, sitting.apart]).toEqual(['lead', true])
    await sitting.go(place(55, '5'))
    expect(sent.at(-1)?.body).toEqual({ place: place(55, '5'), seen: 1 })
    expect(sitting.apart).toBe(false)
  })

  test('a link to a sitting that does not exist yet opens it there', async () => {
    aService()
    answer(`GET ${base}/sitting`, new Refusal(404, { detail: 'not found' }))
    await useSitting().open('fog', 'run', 'Ines', place(55, '5'))
    expect(sent.find((s) => s.method === 'POST')?.body).toEqual({})
    expect(sent.find((s) => s.method === 'PATCH')?.body).toEqual({ place: place(55, '5') })
  })

  test('a move that comes too late shows where the sitting is', async () => {
    const sitting = await opened()
    answer('PATCH /api/sittings/7', new Refusal(409, { detail: 'somebody else has moved the sitting' }))
    await sitting.go(place(70))
    expect(useTrouble().trouble).toBe('somebody else has moved the sitting')
    expect(useFrame().place).toEqual(place(40))
  })

  test('an answer that comes after a newer state from the stream undoes nothing', async () => {
    const sitting = await opened()
    const handed = state(1, place(40), [['Ines', 'follow'], ['Tomas', 'lead']])
    answer('PATCH /api/sittings/7', () => {
      streams[0].tell(handed) // somebody got the lead before the answer was read
      return state(1, place(40))
    })
    await sitting.tell({ asks: true })
    expect(sitting.state?.leader).toBe('Tomas')
    answer('PATCH /api/sittings/7', () => {
      streams[0].tell(handed)
      return state(2, place(50))
    })
    await sitting.go(place(50))
    expect([sitting.state?.leader, sitting.state?.version, sitting.state?.place]).toEqual(['Tomas', 2, place(50)])
  })

  test('a quick second move says that it has seen the first one', async () => {
    const sitting = await opened()
    let version = 1
    let second: Promise<void> | undefined
    answer('PATCH /api/sittings/7', async () => {
      second ??= sitting.go(place(70)) // before the answer to the first one is there
      await new Promise((done) => setTimeout(done, 50))
      return state(++version, place(40 + 10 * version))
    })
    await sitting.go(place(60))
    await second
    expect(sent.filter((s) => s.method === 'PATCH').map((s) => s.body)).toEqual([{ place: place(60), seen: 1 }, { place: place(70), seen: 2 }])
    expect(useTrouble().trouble).toBe('')
  })

  test('a state from the stream hides no trouble', async () => {
    await opened()
    useTrouble().trouble = 'your role is viewer'
    streams[0].tell(state(1, place(40)))
    expect(useTrouble().trouble).toBe('your role is viewer')
  })

  test('steps are kept once, in order', async () => {
    const sitting = await opened()
    const step = (id: number) => ({ id, by: 'Ines', at: '2026-03-01T06:00:01Z', kind: 'move', place: place(id) }) as SittingStep
    streams[0].tell(step(4), 'step')
    streams[0].tell(step(4), 'step')
    streams[0].tell(step(5), 'step')
    expect(sitting.steps.map((s) => s.id)).toEqual([3, 4, 5])
    await sitting.say('there')
    expect(sent.at(-1)).toMatchObject({ method: 'POST', body: { text: 'there' } })
    await sitting.tell({ pointing: { kind: 'value', at: 'n' } })
    expect(sent.at(-1)?.body).toEqual({ pointing: { kind: 'value', at: 'n' } })
  })

  test('a link to another frame of the place moves nobody', async () => {
    aService()
    await useSitting().open('fog', 'run', 'Ines', place(40, '1', 1))
    expect(requests()).not.toContain('PATCH /api/sittings/7')
    expect(useFrame().place).toEqual(place(40, '1', 1))
  })

  test('who follows goes along; who leads or roams stays', async () => {
    const sitting = await opened()
    for (const [mode, moves] of [['follow', true], ['roam', false], ['lead', false]] as const) {
      await useFrame().load(place(40))
      const at = 60 + mode.length
      streams[0].tell(state(9, place(at), [['Ines', mode]]))
      await new Promise((r) => setTimeout(r, 20))
      expect(sitting.mode).toBe(mode)
      expect(useFrame().place.moment).toBe(moves ? at : 40)
    }
  })

  test('a state that comes late moves nobody back', async () => {
    const sitting = await opened()
    sitting.follow(state(5, place(50), [['Ines', 'follow']]))
    await new Promise((r) => setTimeout(r, 20))
    sitting.follow(state(4, place(45), [['Ines', 'follow'], ['Tomas', 'lead']]))
    await new Promise((r) => setTimeout(r, 20))
    expect(useFrame().place.moment).toBe(50)
    expect([sitting.state?.version, sitting.state?.place.moment, sitting.state?.leader]).toEqual([5, 50, 'Tomas'])
  })

  test('a step goes where the service says, with the reason, and tells the others', async () => {
    const sitting = await opened()
    answer(`GET ${base}/step`, { moment: 41, thread: '2', reason: 'a call begins' })
    await sitting.step('into', true)
    expect(sent.find((s) => s.path.endsWith('/step'))?.query).toEqual({ moment: '40', thread: '1', way: 'into', back: 'true' })
    expect(useFrame().place).toEqual(place(41, '2'))
    expect(sitting.reason).toBe('a call begins')
    expect(sent.at(-1)).toMatchObject({ method: 'PATCH', body: { place: place(41, '2'), seen: 1 } })
    answer(`GET ${base}/run`, new Refusal(404, { detail: 'no hit' }))
    await sitting.run(false)
    expect(useTrouble().trouble).toBe('no hit')
    expect(useFrame().place).toEqual(place(41, '2'))
    answer(`GET ${base}/run`, { moment: 77, thread: '1', reason: 'checkpoint 3' })
    await sitting.run(false)
    expect(useFrame().place).toEqual(place(77))
    await sitting.goTo(80)
    expect(useFrame().place).toEqual(place(80, '5'))
  })

  test('a frame is chosen within the stack only', async () => {
    const sitting = await opened()
    await sitting.chooseFrame(1)
    expect(useFrame().place.frame).toBe(1)
    for (const index of [-1, 2]) {
      await sitting.chooseFrame(index)
      expect(useFrame().place.frame).toBe(1)
    }
  })

  test('taking the lead brings the sitting here; following goes to it', async () => {
    const sitting = await opened()
    await useFrame().load(place(63))
    await sitting.setMode('lead')
    expect(sent.at(-1)?.body).toEqual({ mode: 'lead', place: place(63) })
    await sitting.setMode('follow')
    expect(sent.find((s) => (s.body as { mode?: string })?.mode === 'follow')?.body).toEqual({ mode: 'follow' })
    expect(useFrame().place).toEqual(place(40))
    sitting.close()
    const from = sent.length
    await sitting.setMode('lead')
    expect(sent).toHaveLength(from)
  })

  test('evidence that cannot be opened says why', async () => {
    answer(`GET ${base}/peek`, new Refusal(409, { detail: 'still being indexed' }))
    await useSitting().open('fog', 'run', 'Ines')
    expect(useTrouble().trouble).toBe('still being indexed')
    expect(streams).toHaveLength(0)
  })
})
