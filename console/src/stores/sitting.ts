import { defineStore } from 'pinia'
import { computed, ref, shallowRef } from 'vue'
import type { Format, Mode, Place, Pointing, Sitting, SittingStep } from '../api/service'
import { data, service, ServiceError } from '../api/service'
import { useCheckpoints } from './checkpoints'
import { useDrawer } from './drawer'
import { useEvidence } from './evidence'
import { useFrame } from './frame'
import { useLedger } from './ledger'
import { useLookups } from './lookups'
import { useTrouble } from './trouble'

/** How many steps of a sitting are kept in the page. */
const mostSteps = 300

export type Way = 'into' | 'over' | 'out'

/** One person's part in a shared replay: who is here, and who goes where. */
export const useSitting = defineStore('sitting', () => {
  const evidence = useEvidence()
  const here = useFrame()
  const checkpoints = useCheckpoints()
  const drawer = useDrawer()
  const { attempt } = useTrouble()
  const state = shallowRef<Sitting>()
  const me = ref('')
  const reason = ref('')
  /** What happened in the sitting lately, oldest first. */
  const steps = shallowRef<SittingStep[]>([])
  /** The place of a link that somebody who leads has opened: the others are not there. */
  const apart = ref(false)

  let events: EventSource | undefined

  const mode = computed<Mode>(() => state.value?.here.find((p) => p.name === me.value)?.mode ?? 'follow')

  /** The others who look at the same place. */
  const pointers = computed(() => (state.value?.here ?? []).filter((p) => p.name !== me.value && p.place.moment === here.place.moment && p.place.thread === here.place.thread && p.place.frame === here.place.frame))

  /** How many states the stream has brought. */
  let received = 0

  async function open(inCase: string, name: string, who: string, at?: Place) {
    close()
    me.value = who
    await attempt(async () => {
      await evidence.open(inCase, name)
      drawer.open()
      const before = await current()
      if (at && !at.thread) at = { ...at, thread: await here.threadAt(at.moment) }
      // A link does not take anybody along, and whoever leads keeps the lead.
      const looksAlone = at && before && before.leader !== me.value && differs(at, before.place)
      let s = await data(service.POST('/api/cases/{case}/evidence/{evidence}/sitting', { params: { path: evidence.path }, body: looksAlone ? { mode: 'roam' } : {} }))
      const isElsewhere = at && differs(at, s.place)
      if (at && (looksAlone || (isElsewhere && !before))) s = await change(s, { place: at })
      apart.value = !!(at && before && isElsewhere && s.leader === me.value)
      here.format = s.format as Format
      await here.load(at ?? s.place)
      state.value = s
      steps.value = await data(service.GET('/api/sittings/{sitting}/steps', { params: { path: { sitting: s.id }, query: { latest: true, count: mostSteps } } }))
      events = new EventSource(`/api/sittings/${s.id}/events`)
      events.onmessage = (e) => follow(JSON.parse(e.data) as Sitting)
      events.addEventListener('step', (e) => happened(JSON.parse(e.data) as SittingStep))
      if (!evidence.isSnapshot) await Promise.all([checkpoints.load(), evidence.loadLanes(0, 0)])
    })
  }

  /** The sitting, if there is one already. */
  function current() {
    return data(service.GET('/api/cases/{case}/evidence/{evidence}/sitting', { params: { path: evidence.path } })).catch((e) => {
      if (e instanceof ServiceError && e.status === 404) return undefined
      throw e
    })
  }

  function differs(a: Place, b: Place) {
    return a.moment !== b.moment || a.thread !== b.thread
  }

  function happened(step: SittingStep) {
    if (steps.value.some((s) => s.id === step.id)) return
    steps.value = [...steps.value, step].slice(-mostSteps)
  }

  function close() {
    events?.close()
    steps.value = []
    apart.value = false
    events = undefined
    state.value = undefined
    here.close()
    checkpoints.close()
    useLedger().close()
    useLookups().close()
  }

  function change(s: Sitting, body: { mode?: Mode; place?: Place; seen?: number; pointing?: Pointing; asks?: boolean; handTo?: string; watches?: string[]; columns?: string[]; format?: Format }) {
    return data(service.PATCH('/api/sittings/{sitting}', { params: { path: { sitting: s.id } }, body }))
  }

  /** Changes the sitting. What the stream has brought meanwhile is newer than the answer, but for the own move. */
  async function changed(body: Parameters<typeof change>[1]) {
    const before = received
    const s = await change(state.value!, body)
    const now = state.value
    if (!now || received === before) state.value = s
    else if (s.version > now.version) state.value = { ...now, version: s.version, place: s.place }
  }

  /** Takes the sitting's new state, and follows it unless one roams alone. */
  function follow(s: Sitting) {
    received++
    const newest = state.value
    const behind = newest && s.version < newest.version
    // A state that was sent before the own move was answered says who is here, and not where the sitting is.
    state.value = behind ? { ...s, version: newest.version, place: newest.place } : s
    void useLedger().adopt(s.columns, (columns) => tell({ columns }))
    if (here.isFormatShared && s.format !== here.format) void attempt(() => here.write(s.format as Format))
    const p = s.place
    const now = here.place
    if (!behind && mode.value === 'follow' && (p.moment !== now.moment || p.thread !== now.thread || p.frame !== now.frame)) {
      void attempt(() => here.load(p))
    }
  }

  let last: Promise<unknown> = Promise.resolve()

  /** Does one after the other: a quick second move says that it has seen the first one. */
  function inTurn(f: () => Promise<void>) {
    const turn = last.then(f)
    last = turn.catch(() => undefined) // whoever asked for it is told
    return turn
  }

  /** Goes to a place, and takes the others along if one leads. */
  async function go(p: Place, why = '') {
    await attempt(async () => {
      await here.load(p)
      reason.value = why
      apart.value = false
      if (!state.value) return
      try {
        await inTurn(async () => {
          if (state.value) await changed({ place: p, seen: state.value.version })
        })
      } catch (e) {
        // Somebody else, or oneself in another window, has moved the sitting meanwhile: it counts.
        if (e instanceof ServiceError && e.status === 409) await here.load(state.value.place)
        throw e
      }
    })
  }

  /** Changes something other than the place. */
  async function tell(body: { pointing?: Pointing; asks?: boolean; handTo?: string; watches?: string[]; columns?: string[]; format?: Format }) {
    await attempt(async () => {
      if (state.value) await changed(body)
    })
  }

  async function say(text: string) {
    await attempt(async () => {
      if (state.value) await data(service.POST('/api/sittings/{sitting}/say', { params: { path: { sitting: state.value.id } }, body: { text } }))
    })
  }

  async function setMode(m: Mode) {
    apart.value = false
    await attempt(async () => {
      if (!state.value) return
      await changed(m === 'lead' ? { mode: m, place: here.place } : { mode: m })
      if (m === 'follow') await here.load(state.value.place)
    })
  }

  async function step(way: Way, back: boolean) {
    await attempt(async () => {
      const { moment, thread } = here.place
      const s = await data(service.GET('/api/cases/{case}/evidence/{evidence}/step', { params: { path: evidence.path, query: { moment, thread, way, back } } }))
      await go({ moment: s.moment, thread: s.thread, frame: 0 }, s.reason)
    })
  }

  async function run(back: boolean) {
    await attempt(async () => {
      const s = await data(service.GET('/api/cases/{case}/evidence/{evidence}/run', { params: { path: evidence.path, query: { moment: here.place.moment, back } } }))
      await go({ moment: s.moment, thread: s.thread, frame: 0 }, s.reason)
    })
  }

  function chooseFrame(index: number) {
    if (index >= 0 && index < here.frames.length) return go({ ...here.place, frame: index })
  }

  /** Goes to a moment on its own thread. */
  async function goTo(moment: number) {
    await attempt(async () => go({ moment, thread: await here.threadAt(moment), frame: 0 }))
  }

  return { state, me, reason, mode, steps, apart, pointers, open, close, follow, happened, go, goTo, step, run, chooseFrame, setMode, tell, say }
})
