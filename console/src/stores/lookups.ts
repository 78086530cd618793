import { defineStore } from 'pinia'
import { ref, shallowRef } from 'vue'
import type { Conditions, Origin, Overlaps, Place, Races, Search, Story } from '../api/service'
import { data, service } from '../api/service'
import { useDrawer } from './drawer'
import { useEvidence } from './evidence'
import { useFrame } from './frame'
import { useTrouble } from './trouble'

/** What a call may have missed: a line, the write of a path, or a call of a function. */
export type Missing = { line: string } | { write: string } | { enter: string }

/** Answers that stay in the drawer: where a value came from, where one was found, why a line ran, lives and races. */
export const useLookups = defineStore('lookups', () => {
  const evidence = useEvidence()
  const here = useFrame()
  const drawer = useDrawer()
  const { attempt } = useTrouble()
  const origin = shallowRef<Origin>()
  const found = shallowRef<Search>()
  const conditions = shallowRef<Conditions>()
  const missing = shallowRef<Missing>()
  const story = shallowRef<Story>()
  const storyOf = ref('')
  const races = shallowRef<Races>()
  const overlaps = shallowRef<Overlaps>()

  /** Follows a value back to where it came from, from a place or from here. */
  async function explain(path: string, at?: Place, all?: true) {
    if (!path) return
    drawer.tab = 'why'
    await attempt(async () => {
      origin.value = await data(service.GET('/api/cases/{case}/evidence/{evidence}/origin', { params: { path: evidence.path, query: { ...(at ?? here.place), path, all } } }))
    })
  }

  async function search(text: string, from: number, count: number) {
    await attempt(async () => {
      found.value = await data(service.GET('/api/cases/{case}/evidence/{evidence}/search', { params: { path: evidence.path, query: { text, from, count } } }))
    })
  }

  /** Why the line of the frame was reached. */
  async function reached() {
    drawer.tab = 'line'
    await attempt(async () => {
      missing.value = undefined
      conditions.value = await data(service.GET('/api/cases/{case}/evidence/{evidence}/reached', { params: { path: evidence.path, query: { ...here.place } } }))
    })
  }

  /** Why something did not happen in the frame's call. */
  async function missed(what: Missing) {
    await attempt(async () => {
      conditions.value = await data(service.GET('/api/cases/{case}/evidence/{evidence}/missed', { params: { path: evidence.path, query: { ...here.place, ...what } } }))
      missing.value = what
    })
  }

  /** The life of the object at a path, or of a value. */
  async function tell(of: string, from: number, count: number) {
    if (!of) return
    drawer.tab = 'story'
    storyOf.value = of
    await attempt(async () => {
      story.value = await data(service.GET('/api/cases/{case}/evidence/{evidence}/story', { params: { path: evidence.path, query: { ...here.place, of, from, count } } }))
    })
  }

  async function findRaces() {
    await attempt(async () => {
      races.value = await data(service.GET('/api/cases/{case}/evidence/{evidence}/races', { params: { path: evidence.path, query: { count: 100 } } }))
    })
  }

  async function findOverlaps(enter: string, by: string) {
    await attempt(async () => {
      overlaps.value = await data(service.GET('/api/cases/{case}/evidence/{evidence}/overlap', { params: { path: evidence.path, query: { enter, by } } }))
    })
  }

  function close() {
    origin.value = undefined
    found.value = undefined
    conditions.value = undefined
    missing.value = undefined
    story.value = undefined
    races.value = undefined
    overlaps.value = undefined
  }

  return { origin, found, conditions, missing, story, storyOf, races, overlaps, explain, search, reached, missed, tell, findRaces, findOverlaps, close }
})
