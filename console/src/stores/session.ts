import { defineStore } from 'pinia'
import { ref } from 'vue'
import { data, service, ServiceError } from '../api/service'

/** Who is signed in. */
export const useSession = defineStore('session', () => {
  const name = ref('')
  const admin = ref(false)
  const known = ref(false)

  function be(p: { name: string; admin: boolean }) {
    name.value = p.name
    admin.value = p.admin
  }

  async function find() {
    if (known.value) return
    try {
      be(await data(service.GET('/api/me')))
    } catch (e) {
      if (!(e instanceof ServiceError) || e.status !== 401) throw e
    }
    known.value = true
  }

  async function signIn(who: string, password: string) {
    be(await data(service.POST('/api/sessions', { body: { name: who, password } })))
    known.value = true
  }

  async function signOut() {
    await data(service.DELETE('/api/sessions'))
    name.value = ''
  }

  return { name, admin, known, find, signIn, signOut }
})
