import { defineStore } from 'pinia'
import { shallowRef } from 'vue'
import type { Origin, Place, Search } from '../api/service'
import { data, service } from '../api/service'
import { useDrawer } from './drawer'
import { useEvidence } from './evidence'
import { useFrame } from './frame'
import { useTrouble } from './trouble'

/** Answers that stay in the drawer: where a value came from, and where one was found. */
export const useLookups = defineStore('lookups', () => {
  const evidence = useEvidence()
  const here = useFrame()
  const drawer = useDrawer()
  const { attempt } = useTrouble()
  const origin = shallowRef<Origin>()
  const found = shallowRef<Search>()

  /** Follows a value back to where it came from, from a place or from here. */
  async function explain(path: string, at?: Place) {
    if (!path) return
    drawer.tab = 'why'
    await attempt(async () => {
      origin.value = await data(service.GET('/api/cases/{case}/evidence/{evidence}/origin', { params: { path: evidence.path, query: { ...(at ?? here.place), path } } }))
    })
  }

  async function search(text: string, from: number, count: number) {
    await attempt(async () => {
      found.value = await data(service.GET('/api/cases/{case}/evidence/{evidence}/search', { params: { path: evidence.path, query: { text, from, count } } }))
    })
  }

  function close() {
    origin.value = undefined
    found.value = undefined
  }

  return { origin, found, explain, search, close }
})
