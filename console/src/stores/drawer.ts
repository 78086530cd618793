import { defineStore } from 'pinia'
import { ref } from 'vue'
import { useEvidence } from './evidence'

const ofOneMoment = ['threads', 'memory', 'instructions']

/** The drawer below the page: which tab is open. */
export const useDrawer = defineStore('drawer', () => {
  const evidence = useEvidence()
  const tab = ref('hits')

  /** Opens a tab that the evidence has. */
  function open() {
    if (evidence.isSnapshot) tab.value = 'threads'
    else if (ofOneMoment.includes(tab.value)) tab.value = 'hits'
  }

  return { tab, open }
})
