import { defineStore } from 'pinia'
import { computed, ref, shallowRef } from 'vue'
import type { Mode, Place, Sitting } from '../api/service'
import { data, service } from '../api/service'
import { useCheckpoints } from './checkpoints'
import { useDrawer } from './drawer'
import { useEvidence } from './evidence'
import { useFrame } from './frame'
import { useLedger } from './ledger'
import { useLookups } from './lookups'
import { useTrouble } from './trouble'

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

  let events: EventSource | undefined

  const mode = computed<Mode>(() => state.value?.here.find((p) => p.name === me.value)?.mode ?? 'follow')

  async function open(inCase: string, name: string, who: string, at?: Place) {
    close()
    me.value = who
    await attempt(async () => {
      await evidence.open(inCase, name)
      drawer.open()
      let s = await data(service.POST('/api/cases/{case}/evidence/{evidence}/sitting', { params: { path: evidence.path }, body: {} }))
      if (at && !at.thread) at = { ...at, thread: await here.threadAt(at.moment) }
      if (at && (at.moment !== s.place.moment || at.thread !== s.place.thread)) {
        s = await change(s, { mode: 'roam', place: at })
        await here.load(at)
      } else {
        await here.load(at ?? s.place)
      }
      state.value = s
      events = new EventSource(`/api/sittings/${s.id}/events`)
      events.onmessage = (e) => follow(JSON.parse(e.data) as Sitting)
      if (!evidence.isSnapshot) await Promise.all([checkpoints.load(), evidence.loadLanes(0, 0)])
    })
  }

  function close() {
    events?.close()
    events = undefined
    state.value = undefined
    here.close()
    checkpoints.close()
    useLedger().close()
    useLookups().close()
  }

  function change(s: Sitting, body: { mode?: Mode; place?: Place }) {
    return data(service.PATCH('/api/sittings/{sitting}', { params: { path: { sitting: s.id } }, body }))
  }

  /** Takes the sitting's new state, and follows it unless one roams alone. */
  function follow(s: Sitting) {
    const behind = state.value && s.version < state.value.version
    state.value = s
    const p = s.place
    const now = here.place
    if (!behind && mode.value === 'follow' && (p.moment !== now.moment || p.thread !== now.thread || p.frame !== now.frame)) {
      void attempt(() => here.load(p))
    }
  }

  /** Goes to a place, and takes the others along if one leads. */
  async function go(p: Place, why = '') {
    await attempt(async () => {
      await here.load(p)
      reason.value = why
      if (state.value) state.value = await change(state.value, { place: p })
    })
  }

  async function setMode(m: Mode) {
    await attempt(async () => {
      if (!state.value) return
      state.value = await change(state.value, m === 'lead' ? { mode: m, place: here.place } : { mode: m })
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

  return { state, me, reason, mode, open, close, follow, go, goTo, step, run, chooseFrame, setMode }
})
