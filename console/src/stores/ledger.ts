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

  async function addColumn(expression: string) {
    drawer.tab = 'ledger'
    if (!columns.value.includes(expression)) columns.value.push(expression)
    await load()
  }

  async function dropColumn(expression: string) {
    columns.value = columns.value.filter((c) => c !== expression)
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
  }

  return { table, rows, from, columns, addColumn, dropColumn, chooseRows, turn, close }
})
