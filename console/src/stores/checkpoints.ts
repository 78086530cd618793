import { defineStore } from 'pinia'
import { computed, ref, shallowRef } from 'vue'
import type { Checkpoint, Hits, NewCheckpoint } from '../api/service'
import { data, service } from '../api/service'
import { everyPage } from '../pages'
import { useDrawer } from './drawer'
import { useEvidence } from './evidence'
import { useFrame } from './frame'
import { useTrouble } from './trouble'

/** The case's checkpoints, and the hits of the chosen one. */
export const useCheckpoints = defineStore('checkpoints', () => {
  const evidence = useEvidence()
  const here = useFrame()
  const drawer = useDrawer()
  const { attempt } = useTrouble()
  const list = shallowRef<Checkpoint[]>([])
  const totals = ref(new Map<number, number>())
  const chosen = ref(0)
  const hits = shallowRef<Hits>()
  const density = shallowRef<number[]>([])
  /** New checkpoints are one's own only: nobody else sees them or halts at them. */
  const isPrivate = ref(false)

  const checkpoint = computed(() => list.value.find((c) => c.id === chosen.value))
  const inCase = computed(() => ({ case: evidence.caseName }))

  /** What a checkpoint is on, as the service is asked for it. */
  function on(c: Checkpoint) {
    const query = { on: c.on, when: c.when || undefined, nth: c.nth || undefined }
    // A checkpoint of one recording is reached from its place; its thread belongs to that.
    if (c.evidence) return { ...query, moment: c.moment, thread: String(c.thread), frame: c.frame }
    return { ...query, onThread: c.thread ? String(c.thread) : undefined }
  }

  async function load() {
    list.value = await everyPage((query) => data(service.GET('/api/cases/{case}/checkpoints', { params: { path: inCase.value, query } })), (c) => String(c.id))
    if (!checkpoint.value) {
      chosen.value = list.value[0]?.id ?? 0
      hits.value = undefined
    }
    await Promise.all(
      list.value.map(async (c) => {
        try {
          if (c.evidence && c.evidence !== evidence.name) throw new Error('of another recording')
          const h = await hitsOf(c, 0, c.id === chosen.value ? 100 : 0)
          totals.value.set(c.id, h.total)
          if (c.id === chosen.value) hits.value = h
        } catch {
          totals.value.delete(c.id) // this recording has no such place
        }
      }),
    )
    await loadDensity()
  }

  function hitsOf(c: Checkpoint, from: number, count: number) {
    return data(service.GET('/api/cases/{case}/evidence/{evidence}/hits', { params: { path: evidence.path, query: { ...on(c), show: c.show, from, count } } }))
  }

  /** How the chosen checkpoint's hits are spread, where a page of them does not show it. */
  async function loadDensity() {
    const c = checkpoint.value
    density.value =
      c && hits.value && hits.value.total > hits.value.hits.length
        ? (await data(service.GET('/api/cases/{case}/evidence/{evidence}/density', { params: { path: evidence.path, query: { ...on(c), spans: 600 } } }))).counts
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

  async function create(body: NewCheckpoint) {
    const c = await data(service.POST('/api/cases/{case}/checkpoints', { params: { path: inCase.value }, body: { ...body, evidence: evidence.name, private: isPrivate.value || undefined } }))
    chosen.value = c.id
  }

  async function add(body: NewCheckpoint) {
    await attempt(async () => {
      await create(body)
      await load()
    })
  }

  /** Sets a checkpoint on a line of the file that is shown, or deletes it. */
  async function toggle(line: number) {
    const have = list.value.find((c) => c.file === here.file && c.line === line)
    await attempt(async () => {
      if (have) await data(service.DELETE('/api/cases/{case}/checkpoints/{checkpoint}', { params: { path: { ...inCase.value, checkpoint: have.id } } }))
      else await create({ on: `line ${here.file}:${line}` })
      await load()
    })
  }

  /** Sets a checkpoint on the writes of a value, as it is reached from here. */
  function watchWrites(path: string) {
    drawer.tab = 'hits'
    const p = here.place
    return add({ on: `write ${path}`, moment: p.moment, thread: Number(p.thread), frame: p.frame })
  }

  async function switchAll(enabled: boolean) {
    await attempt(async () => {
      await data(service.PATCH('/api/cases/{case}/checkpoints', { params: { path: inCase.value }, body: { enabled } }))
      await load()
    })
  }

  async function change(c: Checkpoint, body: { enabled?: boolean; when?: string; nth?: string; show?: string[] }) {
    await attempt(async () => {
      await data(service.PATCH('/api/cases/{case}/checkpoints/{checkpoint}', { params: { path: { ...inCase.value, checkpoint: c.id } }, body }))
      await load()
    })
  }

  async function remove(c: Checkpoint) {
    await attempt(async () => {
      await data(service.DELETE('/api/cases/{case}/checkpoints/{checkpoint}', { params: { path: { ...inCase.value, checkpoint: c.id } } }))
      await load()
    })
  }

  function close() {
    hits.value = undefined
    density.value = []
    chosen.value = 0
  }

  return { isPrivate, list, totals, chosen, checkpoint, hits, density, on, load, choose, add, toggle, watchWrites, switchAll, change, remove, close }
})
