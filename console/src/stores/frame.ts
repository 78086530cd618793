import { defineStore } from 'pinia'
import { computed, ref, shallowRef } from 'vue'
import type { Format, Frame, Place, Variable } from '../api/service'
import { data, service, words } from '../api/service'
import { useEvidence } from './evidence'

/** The place that is looked at: its stack, values and source text. */
export const useFrame = defineStore('frame', () => {
  const evidence = useEvidence()
  const place = ref<Place>({ moment: 0, thread: '1', frame: 0 })
  const frames = shallowRef<Frame[]>([])
  const values = shallowRef<Variable[]>([])
  /** How whole numbers are written: as for all in the sitting, unless one wants one's own. */
  const format = ref<Format>('')
  const isFormatShared = ref(true)
  const before = shallowRef(new Map<string, string>())
  const file = ref('')
  const text = ref('')
  const lines = shallowRef<number[]>([])
  const ran = shallowRef(new Map<number, number>())
  const busy = ref(false)

  let loading: AbortController | undefined

  const frame = computed(() => frames.value[place.value.frame])

  /** Reads the stack, the values and the source text at a place. */
  async function load(p: Place) {
    loading?.abort()
    const control = new AbortController()
    loading = control
    busy.value = true
    const as = format.value
    try {
      const params = { path: evidence.path, query: { ...p } }
      const [stack, found] = await Promise.all([
        data(service.GET('/api/cases/{case}/evidence/{evidence}/stack', { params, signal: control.signal })),
        data(service.GET('/api/cases/{case}/evidence/{evidence}/values', { params: { ...params, query: { ...p, format: as || undefined } }, signal: control.signal })).catch((e) => {
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
      void loadRan(p, control.signal)
    } finally {
      if (loading === control) busy.value = false
    }
    if (as !== format.value && !busy.value) await load(place.value)
  }

  /** Reads how often the frame's call reached each line, after the place is shown. */
  async function loadRan(p: Place, signal: AbortSignal) {
    const t = evidence.traits
    if (!t?.lines || !t.history) return
    const listing = await data(service.GET('/api/cases/{case}/evidence/{evidence}/source', { params: { path: evidence.path, query: { ...p } }, signal })).catch(() => undefined)
    if (signal.aborted) return
    ran.value = new Map((listing?.lines ?? []).filter((l) => l.hits >= 0).map((l) => [l.line, l.hits]))
  }

  async function loadSource(name: string) {
    try {
      const s = await data(service.GET('/api/cases/{case}/evidence/{evidence}/file', { params: { path: evidence.path, query: { file: name } } }))
      text.value = s.text
      lines.value = s.lines
    } catch (e) {
      text.value = words(e)
      lines.value = []
    }
    file.value = name
  }

  function close() {
    loading?.abort()
    file.value = ''
    format.value = ''
    isFormatShared.value = true
  }

  /** Writes whole numbers in another way. A place that is just being loaded is not given up for that. */
  async function write(as: Format) {
    if (as === format.value) return
    format.value = as
    if (file.value && !busy.value) await load(place.value)
  }

  /** The thread of a moment. */
  async function threadAt(moment: number) {
    const s = await data(service.GET('/api/cases/{case}/evidence/{evidence}/stack', { params: { path: evidence.path, query: { moment } } }))
    return s.threads[0]?.id ?? '1'
  }

  function ask(expression: string) {
    return data(service.GET('/api/cases/{case}/evidence/{evidence}/ask', { params: { path: evidence.path, query: { ...place.value, expression } } }))
  }

  /** A page of the parts of the value that a path leads to. */
  function parts(path: string, from: number, count: number) {
    return data(service.GET('/api/cases/{case}/evidence/{evidence}/parts', { params: { path: evidence.path, query: { ...place.value, path, from, count } } }))
  }

  return { format, isFormatShared, write, place, frames, frame, values, before, file, text, lines, ran, busy, load, close, threadAt, ask, parts }
})
