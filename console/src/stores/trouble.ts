import { defineStore } from 'pinia'
import { ref } from 'vue'
import { words } from '../api/service'

/** What went wrong last. */
export const useTrouble = defineStore('trouble', () => {
  const trouble = ref('')

  /** Runs f; an error of it is shown, and nothing else changes. */
  async function attempt(f: () => Promise<void>) {
    try {
      trouble.value = ''
      await f()
    } catch (e) {
      if (!(e instanceof DOMException && e.name === 'AbortError')) trouble.value = words(e)
    }
  }

  return { trouble, attempt }
})
