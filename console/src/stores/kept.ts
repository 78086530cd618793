import { defineStore } from 'pinia'
import { ref, shallowRef } from 'vue'
import type { Anchor, Comment, Exhibit, Theory } from '../api/service'
import { data, service } from '../api/service'
import { useTrouble } from './trouble'

/** How many exhibits, and comments, a page shows: the latest ones. */
const mostShown = 200

/** What people keep on a case: exhibits, comments and theories. It follows what others do. */
export const useKept = defineStore('kept', () => {
  const { attempt } = useTrouble()
  const caseName = ref('')
  const exhibits = shallowRef<Exhibit[]>([])
  const comments = shallowRef<Comment[]>([])
  const theories = shallowRef<Theory[]>([])

  let events: EventSource | undefined
  let opened = 0

  const path = () => ({ case: caseName.value })

  async function load() {
    const of = caseName.value
    const params = { path: path() }
    const [kept, said, suspected] = await Promise.all([
      data(service.GET('/api/cases/{case}/exhibits', { params: { ...params, query: { latest: true, count: mostShown } } })),
      data(service.GET('/api/cases/{case}/comments', { params: { ...params, query: { latest: true, count: mostShown } } })),
      data(service.GET('/api/cases/{case}/theories', { params })),
    ])
    if (of !== caseName.value) return
    exhibits.value = kept
    comments.value = said
    theories.value = suspected
  }

  /** Opens what is kept on a case, and returns a function that closes it, unless it has been opened again since. */
  function open(name: string) {
    close()
    const mine = ++opened
    caseName.value = name
    void attempt(async () => {
      await load()
      if (mine !== opened) return
      events = new EventSource(`/api/cases/${name}/events`)
      events.onmessage = () => void attempt(load)
    })
    return () => {
      if (mine === opened) close()
    }
  }

  function close() {
    opened++
    events?.close()
    events = undefined
    caseName.value = ''
    exhibits.value = []
    comments.value = []
    theories.value = []
  }

  /** Does something that changes what is kept, and shows it. Returns whether it was done. */
  async function deed(f: () => Promise<unknown>) {
    let done = false
    await attempt(async () => {
      await f()
      done = true
      await load()
    })
    return done
  }

  const keep = (evidence: string, question: string, request: object, note: string) =>
    deed(() => data(service.POST('/api/cases/{case}/exhibits', { params: { path: path() }, body: { evidence, question, request: request as never, note } })))
  const drop = (id: number) => deed(() => data(service.DELETE('/api/cases/{case}/exhibits/{id}', { params: { path: { ...path(), id } } })))
  const say = (text: string, anchor: Anchor, parent = 0) => deed(() => data(service.POST('/api/cases/{case}/comments', { params: { path: path() }, body: { text, anchor, parent } })))
  const edit = (id: number, text: string) => deed(() => data(service.PATCH('/api/cases/{case}/comments/{id}', { params: { path: { ...path(), id } }, body: { text } })))
  const unsay = (id: number) => deed(() => data(service.DELETE('/api/cases/{case}/comments/{id}', { params: { path: { ...path(), id } } })))
  const suspect = (text: string) => deed(() => data(service.POST('/api/cases/{case}/theories', { params: { path: path() }, body: { text } })))
  const judge = (id: number, state: Theory['state']) => deed(() => data(service.PATCH('/api/cases/{case}/theories/{id}', { params: { path: { ...path(), id } }, body: { state } })))
  const argue = (id: number, exhibit: number, supports: boolean) =>
    deed(() => data(service.PUT('/api/cases/{case}/theories/{id}/exhibits/{exhibit}', { params: { path: { ...path(), id, exhibit } }, body: { supports } })))
  const unargue = (id: number, exhibit: number) => deed(() => data(service.DELETE('/api/cases/{case}/theories/{id}/exhibits/{exhibit}', { params: { path: { ...path(), id, exhibit } } })))

  return { caseName, exhibits, comments, theories, open, load, keep, drop, say, edit, unsay, suspect, judge, argue, unargue }
})
