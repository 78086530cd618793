import { ref, shallowRef } from 'vue'

/** How a list is asked for a page. */
export interface PageQuery {
  text?: string
  after?: string
  count: number
}

/** A list that is read in pages, and searched. */
export function usePages<T>(page: (query: PageQuery) => Promise<T[]>, name: (x: T) => string, size = 200) {
  const list = shallowRef<T[]>()
  const mayBeMore = ref(false)
  const text = ref('')
  let pages = 1

  const ask = (after?: string, count = size) => page({ after, count, text: text.value.trim() || undefined })

  /** Reads as much again as is shown. */
  async function load() {
    const most = Math.min(pages * size, 1000)
    const got = await ask(undefined, most)
    list.value = got
    mayBeMore.value = got.length === most
  }

  async function find() {
    pages = 1
    await load()
  }

  async function more() {
    const have = list.value ?? []
    const got = await ask(name(have[have.length - 1]))
    list.value = [...have, ...got]
    mayBeMore.value = got.length === size
    pages++
  }

  return { list, mayBeMore, text, load, find, more }
}

/** All of a list that is read in pages. */
export async function everyPage<T>(page: (query: PageQuery) => Promise<T[]>, name: (x: T) => string): Promise<T[]> {
  const count = 1000
  const list: T[] = []
  for (;;) {
    const got = await page({ count, after: list.length ? name(list[list.length - 1]) : undefined })
    list.push(...got)
    if (got.length < count) return list
  }
}
