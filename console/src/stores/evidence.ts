import { defineStore } from 'pinia'
import { computed, ref, shallowRef } from 'vue'
import type { Lanes, Peek } from '../api/service'
import { data, service } from '../api/service'

/** The evidence that is open: what it is, and what it can do. */
export const useEvidence = defineStore('evidence', () => {
  const caseName = ref('')
  const name = ref('')
  const peek = shallowRef<Peek>()
  const lanes = shallowRef<Lanes>()

  const path = computed(() => ({ case: caseName.value, evidence: name.value }))
  const kind = computed(() => peek.value?.evidence.kind ?? '')
  const traits = computed(() => peek.value?.evidence.traits)
  const moments = computed(() => peek.value?.evidence.moments ?? 0)
  /** Evidence of one moment. */
  const isSnapshot = computed(() => traits.value?.history === false)
  /** Evidence whose steps are lines of source text; other steps go from one message or call to the next. */
  const hasLines = computed(() => traits.value?.lines ?? false)

  async function open(inCase: string, evidence: string) {
    caseName.value = inCase
    name.value = evidence
    lanes.value = undefined
    peek.value = await data(service.GET('/api/cases/{case}/evidence/{evidence}/peek', { params: { path: path.value } }))
  }

  async function loadLanes(from: number, to: number) {
    lanes.value = await data(service.GET('/api/cases/{case}/evidence/{evidence}/lanes', { params: { path: path.value, query: { from, to, spans: 600 } } }))
  }

  return { caseName, name, peek, lanes, path, kind, traits, moments, isSnapshot, hasLines, open, loadLanes }
})
