import { defineStore } from 'pinia'
import { ref } from 'vue'
import { data, service, ServiceError } from '../api/service'

/** Who is signed in. */
export const useSession = defineStore('session', () => {
  const name = ref('')
  const known = ref(false)

  async function find() {
    if (known.value) return
    try {
      name.value = (await data(service.GET('/api/me'))).name
    } catch (e) {
      if (!(e instanceof ServiceError) || e.status !== 401) throw e
    }
    known.value = true
  }

  async function signIn(who: string, password: string) {
    name.value = (await data(service.POST('/api/sessions', { body: { name: who, password } }))).name
    known.value = true
  }

  async function signOut() {
    await data(service.DELETE('/api/sessions'))
    name.value = ''
  }

  return { name, known, find, signIn, signOut }
})
