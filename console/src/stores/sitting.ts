import { defineStore } from 'pinia'
import { computed, ref, shallowRef } from 'vue'
import type { Checkpoint, Frame, Hits, Lanes, Ledger, Mode, NewCheckpoint, Origin, Peek, Place, Search, Sitting, Variable } from '../api/service'
import { data, service, words } from '../api/service'

export type Way = 'into' | 'over' | 'out'

/** One person's view of a shared replay: where it stands, and what is there. */
export const useSitting = defineStore('sitting', () => {
  const caseName = ref('')
  const evidence = ref('')
  const peek = shallowRef<Peek>()
  const sitting = shallowRef<Sitting>()
  const me = ref('')
  const place = ref<Place>({ moment: 0, thread: '1', frame: 0 })
  const frames = shallowRef<Frame[]>([])
  const values = shallowRef<Variable[]>([])
  const before = shallowRef(new Map<string, string>())
  const file = ref('')
  const text = ref('')
  const lines = shallowRef<number[]>([])
  const checkpoints = shallowRef<Checkpoint[]>([])
  const totals = ref(new Map<number, number>())
  const chosen = ref(0)
  const hits = shallowRef<Hits>()
  const density = shallowRef<number[]>([])
  const lanes = shallowRef<Lanes>()
  const reason = ref('')
  const trouble = ref('')
  const busy = ref(false)
  const drawer = ref('hits')
  const origin = shallowRef<Origin>()
  const found = shallowRef<Search>()
  const ledger = shallowRef<Ledger>()
  const ledgerRows = ref('call')
  const ledgerFrom = ref(0)
  const columns = ref<string[]>([])

  let events: EventSource | undefined
  let loading: AbortController | undefined

  const path = computed(() => ({ case: caseName.value, evidence: evidence.value }))
  const moments = computed(() => peek.value?.evidence.moments ?? 0)
  const kind = computed(() => peek.value?.evidence.kind ?? '')
  /** Evidence of one moment. */
  const still = computed(() => kind.value === 'core-dump' || kind.value === 'crash-text')
  /** Evidence whose steps are lines of source text; others go from one thing that was said to the next. */
  const hasLines = computed(() => kind.value === 'execution-log' || still.value)
  const mode = computed<Mode>(() => sitting.value?.here.find((p) => p.name === me.value)?.mode ?? 'follow')
  const frame = computed(() => frames.value[place.value.frame])
  const checkpoint = computed(() => checkpoints.value.find((c) => c.id === chosen.value))

  /** Runs f; what goes wrong is shown, and nothing else changes. */
  async function attempt(f: () => Promise<void>) {
    try {
      trouble.value = ''
      await f()
    } catch (e) {
      if (!(e instanceof DOMException && e.name === 'AbortError')) trouble.value = words(e)
    }
  }

  async function open(inCase: string, name: string, who: string, at?: Place) {
    close()
    caseName.value = inCase
    evidence.value = name
    me.value = who
    file.value = ''
    await attempt(async () => {
      peek.value = await data(service.GET('/api/cases/{case}/evidence/{evidence}/peek', { params: { path: path.value } }))
      drawer.value = still.value ? 'threads' : ['threads', 'memory', 'instructions'].includes(drawer.value) ? 'hits' : drawer.value
      let s = await data(service.POST('/api/cases/{case}/evidence/{evidence}/sitting', { params: { path: path.value }, body: {} }))
      if (at && !at.thread) at = { ...at, thread: await threadAt(at.moment) }
      if (at && (at.moment !== s.place.moment || at.thread !== s.place.thread)) {
        s = await data(service.PATCH('/api/sittings/{sitting}', { params: { path: { sitting: s.id } }, body: { mode: 'roam', place: at } }))
        await load(at)
      } else {
        await load(at ?? s.place)
      }
      sitting.value = s
      events = new EventSource(`/api/sittings/${s.id}/events`)
      events.onmessage = (e) => follow(JSON.parse(e.data) as Sitting)
      if (!still.value) await Promise.all([loadCheckpoints(), loadLanes(0, 0)])
    })
  }

  function close() {
    events?.close()
    events = undefined
    loading?.abort()
    sitting.value = undefined
    lanes.value = undefined
    hits.value = undefined
    density.value = []
    origin.value = undefined
    found.value = undefined
    ledger.value = undefined
    columns.value = []
    ledgerRows.value = 'call'
    chosen.value = 0
  }

  /** Takes the sitting's new state, and goes along unless one roams alone. */
  function follow(s: Sitting) {
    const behind = sitting.value && s.version < sitting.value.version
    sitting.value = s
    const p = s.place
    const here = place.value
    if (!behind && mode.value === 'follow' && (p.moment !== here.moment || p.thread !== here.thread || p.frame !== here.frame)) {
      void attempt(() => load(p))
    }
  }

  /** Reads the stack, the values and the source text at a place. */
  async function load(p: Place) {
    loading?.abort()
    const control = new AbortController()
    loading = control
    busy.value = true
    try {
      const query = { moment: p.moment, thread: Number(p.thread), frame: p.frame }
      const [stack, found] = await Promise.all([
        data(service.GET('/api/cases/{case}/evidence/{evidence}/stack', { params: { path: path.value, query }, signal: control.signal })),
        data(service.GET('/api/cases/{case}/evidence/{evidence}/values', { params: { path: path.value, query }, signal: control.signal })).catch((e) => {
          if (e instanceof DOMException) throw e
          return { variables: [] as Variable[] }
        }),
      ])
      const next = stack.threads[0]?.frames ?? []
      const was = frame.value
      const now = next[p.frame]
      before.value = was && now && was.function === now.function ? new Map(values.value.map((v) => [v.name, v.value])) : new Map()
      if (now && now.file !== file.value) await loadSource(now.file)
      frames.value = next
      values.value = found.variables
      place.value = { ...p }
    } finally {
      if (loading === control) busy.value = false
    }
  }

  async function loadSource(name: string) {
    try {
      const s = await data(service.GET('/api/cases/{case}/evidence/{evidence}/source', { params: { path: path.value, query: { file: name } } }))
      text.value = s.text
      lines.value = s.lines
    } catch (e) {
      text.value = words(e)
      lines.value = []
    }
    file.value = name
  }

  async function loadLanes(from: number, to: number) {
    lanes.value = await data(service.GET('/api/cases/{case}/evidence/{evidence}/lanes', { params: { path: path.value, query: { from, to, spans: 600 } } }))
  }

  async function loadCheckpoints() {
    checkpoints.value = await data(service.GET('/api/cases/{case}/checkpoints', { params: { path: { case: caseName.value } } }))
    if (!checkpoint.value) {
      chosen.value = checkpoints.value[0]?.id ?? 0
      hits.value = undefined
    }
    await Promise.all(
      checkpoints.value.map(async (c) => {
        try {
          if (c.evidence && c.evidence !== evidence.value) throw new Error('of another recording')
          const h = await hitsOf(c, 0, c.id === chosen.value ? 100 : 0)
          totals.value.set(c.id, h.total)
          if (c.id === chosen.value) hits.value = h
        } catch {
          totals.value.delete(c.id) // this recording has no such line
        }
      }),
    )
    await loadDensity()
  }

  /** What a checkpoint is on, as the service is asked for it. */
  function on(c: Checkpoint) {
    const more = { when: c.when || undefined, nth: c.nth || undefined, onThread: c.thread || undefined }
    switch (c.kind) {
      case 'enter':
        return { enter: c.function, ...more }
      case 'return':
        return { return: c.function, ...more }
      case 'error':
        return { error: c.about || '*', ...more }
      case 'output':
        return { output: c.about || '*', ...more }
      case 'write':
        return { write: c.about, moment: c.moment, thread: c.thread, frame: c.frame, when: more.when, nth: more.nth }
    }
    return { file: c.file, line: c.line, ...more }
  }

  function hitsOf(c: Checkpoint, from: number, count: number) {
    return data(
      service.GET('/api/cases/{case}/evidence/{evidence}/hits', {
        params: { path: path.value, query: { ...on(c), show: c.show, from, count } },
      }),
    )
  }

  /** How the chosen checkpoint's hits lie over the recording, where a page of them does not show it. */
  async function loadDensity() {
    const c = checkpoint.value
    density.value =
      c && hits.value && hits.value.total > hits.value.hits.length
        ? (await data(service.GET('/api/cases/{case}/evidence/{evidence}/density', { params: { path: path.value, query: { ...on(c), spans: 600 } } }))).counts
        : []
  }

  async function choose(id: number, from = 0) {
    chosen.value = id
    await attempt(async () => {
      const c = checkpoint.value
      hits.value = c ? await hitsOf(c, from, 100) : undefined
      if (!from) await loadDensity()
    })
  }

  /** Goes to a place, and takes the others along if one leads. */
  async function go(p: Place, why = '') {
    await attempt(async () => {
      await load(p)
      reason.value = why
      const s = sitting.value
      if (s) sitting.value = await data(service.PATCH('/api/sittings/{sitting}', { params: { path: { sitting: s.id } }, body: { place: p } }))
    })
  }

  async function setMode(m: Mode) {
    await attempt(async () => {
      const s = sitting.value
      if (!s) return
      const body = m === 'lead' ? { mode: m, place: place.value } : { mode: m }
      sitting.value = await data(service.PATCH('/api/sittings/{sitting}', { params: { path: { sitting: s.id } }, body }))
      if (m === 'follow') await load(sitting.value.place)
    })
  }

  async function step(way: Way, back: boolean) {
    await attempt(async () => {
      const p = place.value
      const s = await data(
        service.GET('/api/cases/{case}/evidence/{evidence}/step', {
          params: { path: path.value, query: { moment: p.moment, thread: Number(p.thread), way, back } },
        }),
      )
      await go({ moment: s.moment, thread: s.thread, frame: 0 }, s.reason)
    })
  }

  async function run(back: boolean) {
    await attempt(async () => {
      const s = await data(
        service.GET('/api/cases/{case}/evidence/{evidence}/run', {
          params: { path: path.value, query: { moment: place.value.moment, back } },
        }),
      )
      await go({ moment: s.moment, thread: s.thread, frame: 0 }, s.reason)
    })
  }

  function chooseFrame(index: number) {
    if (index >= 0 && index < frames.value.length) return go({ ...place.value, frame: index }, '')
  }

  /** Goes to a moment on whichever thread it lies. */
  async function goTo(moment: number) {
    await attempt(async () => go({ moment, thread: await threadAt(moment), frame: 0 }, ''))
  }

  /** The thread that a moment is of. */
  async function threadAt(moment: number) {
    const s = await data(service.GET('/api/cases/{case}/evidence/{evidence}/stack', { params: { path: path.value, query: { moment } } }))
    return s.threads[0]?.id ?? '1'
  }

  async function toggleCheckpoint(line: number) {
    const have = checkpoints.value.find((c) => c.file === file.value && c.line === line)
    await attempt(async () => {
      if (have) {
        await data(service.DELETE('/api/cases/{case}/checkpoints/{checkpoint}', { params: { path: { case: caseName.value, checkpoint: have.id } } }))
      } else {
        const c = await data(
          service.POST('/api/cases/{case}/checkpoints', { params: { path: { case: caseName.value } }, body: { kind: 'line', file: file.value, line, evidence: evidence.value } }),
        )
        chosen.value = c.id
      }
      await loadCheckpoints()
    })
  }

  async function addCheckpoint(body: NewCheckpoint) {
    await attempt(async () => {
      const c = await data(service.POST('/api/cases/{case}/checkpoints', { params: { path: { case: caseName.value } }, body: { ...body, evidence: evidence.value } }))
      chosen.value = c.id
      await loadCheckpoints()
    })
  }

  /** Sets a checkpoint on the writes of a value, as it is reached from here. */
  function watchWrites(of: string) {
    drawer.value = 'hits'
    const p = place.value
    return addCheckpoint({ kind: 'write', about: of, moment: p.moment, thread: Number(p.thread), frame: p.frame })
  }

  async function switchAll(enabled: boolean) {
    await attempt(async () => {
      await data(service.PATCH('/api/cases/{case}/checkpoints', { params: { path: { case: caseName.value } }, body: { enabled } }))
      await loadCheckpoints()
    })
  }

  /** Follows a value back to where it came from, from a place or from here. */
  async function explain(of: string, at?: Place) {
    if (!of) return
    drawer.value = 'why'
    const p = at ?? place.value
    await attempt(async () => {
      origin.value = await data(
        service.GET('/api/cases/{case}/evidence/{evidence}/origin', {
          params: { path: path.value, query: { moment: p.moment, thread: Number(p.thread), frame: p.frame, path: of } },
        }),
      )
    })
  }

  async function search(what: string, from: number, count: number) {
    await attempt(async () => {
      found.value = await data(service.GET('/api/cases/{case}/evidence/{evidence}/search', { params: { path: path.value, query: { text: what, from, count } } }))
    })
  }

  async function loadLedger() {
    if (!columns.value.length) {
      ledger.value = undefined
      return
    }
    const p = place.value
    const c = checkpoint.value
    await attempt(async () => {
      ledger.value = await data(
        service.POST('/api/cases/{case}/evidence/{evidence}/ledger', {
          params: { path: path.value, query: { moment: p.moment, thread: Number(p.thread), frame: p.frame } },
          body: { call: ledgerRows.value === 'call' || !c || c.kind === 'write', hits: ledgerRows.value === 'hits' && c && c.kind !== 'write' ? on(c) : {}, columns: columns.value, from: ledgerFrom.value, count: 50 },
        }),
      )
    })
  }

  async function addColumn(expression: string) {
    drawer.value = 'ledger'
    if (!columns.value.includes(expression)) columns.value.push(expression)
    await loadLedger()
  }

  async function dropColumn(expression: string) {
    columns.value = columns.value.filter((c) => c !== expression)
    await loadLedger()
  }

  async function chooseRows(rows: string) {
    ledgerRows.value = rows
    await turnLedger(0)
  }

  async function turnLedger(from: number) {
    ledgerFrom.value = from
    await loadLedger()
  }

  async function changeCheckpoint(c: Checkpoint, change: { enabled?: boolean; when?: string; nth?: string; show?: string[] }) {
    await attempt(async () => {
      await data(service.PATCH('/api/cases/{case}/checkpoints/{checkpoint}', { params: { path: { case: caseName.value, checkpoint: c.id } }, body: change }))
      await loadCheckpoints()
    })
  }

  async function deleteCheckpoint(c: Checkpoint) {
    await attempt(async () => {
      await data(service.DELETE('/api/cases/{case}/checkpoints/{checkpoint}', { params: { path: { case: caseName.value, checkpoint: c.id } } }))
      await loadCheckpoints()
    })
  }

  function ask(expression: string) {
    const p = place.value
    return data(
      service.GET('/api/cases/{case}/evidence/{evidence}/ask', {
        params: { path: path.value, query: { moment: p.moment, thread: Number(p.thread), frame: p.frame, expression } },
      }),
    )
  }

  function parts(of: string[], from: number, count: number) {
    const p = place.value
    return data(
      service.GET('/api/cases/{case}/evidence/{evidence}/parts', {
        params: { path: path.value, query: { moment: p.moment, thread: Number(p.thread), frame: p.frame, path: of, from, count } },
      }),
    )
  }

  return {
    caseName, evidence, peek, sitting, me, place, frames, frame, values, before, file, text, lines, checkpoints, totals, chosen, checkpoint,
    hits, density, lanes, reason, trouble, busy, moments, mode, path, kind, still, hasLines,
    drawer, origin, found, ledger, ledgerRows, ledgerFrom, columns,
    explain, search, addColumn, dropColumn, chooseRows, turnLedger, addCheckpoint, watchWrites, switchAll,
    open, close, go, goTo, step, run, chooseFrame, setMode, toggleCheckpoint, changeCheckpoint, deleteCheckpoint, choose, ask, parts, loadLanes, attempt,
  }
})
