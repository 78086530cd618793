import { defineStore } from 'pinia'
import { ref, shallowRef } from 'vue'
import type { Ledger } from '../api/service'
import { data, service } from '../api/service'
import { useCheckpoints } from './checkpoints'
import { useDrawer } from './drawer'
import { useEvidence } from './evidence'
import { useFrame } from './frame'
import { useTrouble } from './trouble'

/** The table: rows are moments, columns are expressions. */
export const useLedger = defineStore('ledger', () => {
  const evidence = useEvidence()
  const here = useFrame()
  const checkpoints = useCheckpoints()
  const drawer = useDrawer()
  const { attempt } = useTrouble()
  const table = shallowRef<Ledger>()
  const rows = ref('call')
  const from = ref(0)
  const columns = ref<string[]>([])
  /** Columns are those of all in the sitting, unless one wants columns of one's own. */
  const isShared = ref(true)
  let share: ((columns: string[]) => Promise<void>) | undefined

  async function load() {
    if (!columns.value.length) {
      table.value = undefined
      return
    }
    const c = checkpoints.checkpoint
    const ofHits = rows.value === 'hits' && c && !c.evidence
    await attempt(async () => {
      table.value = await data(
        service.POST('/api/cases/{case}/evidence/{evidence}/ledger', {
          params: { path: evidence.path },
          body: { ...here.place, call: !ofHits, hits: ofHits ? checkpoints.on(c) : undefined, columns: columns.value, from: from.value, count: 50 },
        }),
      )
    })
  }

  async function choose(list: string[]) {
    columns.value = list
    if (isShared.value) await share?.(list)
    await load()
  }

  async function addColumn(expression: string) {
    drawer.tab = 'ledger'
    await choose(columns.value.includes(expression) ? columns.value : [...columns.value, expression])
  }

  function dropColumn(expression: string) {
    return choose(columns.value.filter((c) => c !== expression))
  }

  /** Takes the columns that the sitting has now. How they are changed for all is given when it opens. */
  async function adopt(list: string[], change: (columns: string[]) => Promise<void>) {
    share = change
    if (!isShared.value || list.join('\n') === columns.value.join('\n')) return
    columns.value = list
    await load()
  }

  async function chooseRows(of: string) {
    rows.value = of
    await turn(0)
  }

  async function turn(to: number) {
    from.value = to
    await load()
  }

  function close() {
    table.value = undefined
    columns.value = []
    rows.value = 'call'
    isShared.value = true
    share = undefined
  }

  return { table, rows, from, columns, isShared, adopt, addColumn, dropColumn, chooseRows, turn, close }
})
