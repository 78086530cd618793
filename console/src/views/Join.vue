<script setup lang="ts">
import { onMounted, ref } from 'vue'
import { useRouter } from 'vue-router'
import type { Schemas } from '../api/service'
import { data, service, words } from '../api/service'
import { useSession } from '../stores/session'
import { texts } from '../texts'

const session = useSession()
const router = useRouter()
/** The secret is in no address that is sent to the service: after the sign-in it is in the memory of the tab. */
const kept = 'invitation'
const secret = window.location.hash.slice(1) || (sessionStorage.getItem(kept) ?? '')
const to = ref<Schemas['Invited']>()
const trouble = ref('')
const name = ref('')
const password = ref('')
const busy = ref(false)

async function attempt(f: () => Promise<void>) {
  busy.value = true
  trouble.value = ''
  try {
    await f()
  } catch (e) {
    trouble.value = words(e)
  } finally {
    busy.value = false
  }
}

function open(x: Schemas['Invited']) {
  sessionStorage.removeItem(kept)
  return router.push(x.team ? { name: 'teams', query: { team: x.team } } : { name: 'evidence', params: { case: x.case ?? '' } })
}

function signInFirst() {
  sessionStorage.setItem(kept, secret)
  return router.push({ name: 'sign-in', query: { then: '/join' } })
}

const join = () => attempt(async () => void (await open(await data(service.POST('/api/invitations/accept', { body: { secret } })))))

const joinWithAccount = () =>
  attempt(async () => {
    const who = { name: name.value.trim(), password: password.value }
    const x = await data(service.POST('/api/invitations/account', { body: { secret, ...who } }))
    await session.signIn(who.name, who.password)
    await open(x)
  })

onMounted(() => attempt(async () => void (to.value = await data(service.POST('/api/invitations', { body: { secret: secret || '-' } })))))
</script>

<template>
  <div class="middle">
    <section class="card">
      <h1><img src="/icon.svg" alt="" width="34" height="34" /> {{ texts.join.title }}</h1>
      <p v-if="trouble" role="alert" class="trouble">{{ trouble }}</p>
      <template v-if="to">
        <p id="to">{{ texts.join.to(to) }}</p>
        <p class="soft">{{ texts.join.until(to.expires) }}</p>
        <el-button v-if="session.name" id="join" type="primary" size="large" :loading="busy" @click="join">{{ texts.join.join(session.name) }}</el-button>
        <template v-else>
          <el-button id="sign-in-first" size="large" @click="signInFirst">{{ texts.join.signIn }}</el-button>
          <form v-if="to.accounts" @submit.prevent="joinWithAccount">
            <p>{{ texts.join.account }}</p>
            <label for="name">{{ texts.signIn.name }}</label>
            <el-input id="name" v-model="name" autocomplete="username" size="large" />
            <label for="password">{{ texts.signIn.password }}</label>
            <el-input id="password" v-model="password" type="password" autocomplete="new-password" size="large" />
            <el-button id="join-with-account" type="primary" native-type="submit" size="large" :loading="busy" :disabled="!name.trim() || password.length < 8">{{ texts.join.make }}</el-button>
          </form>
        </template>
      </template>
    </section>
  </div>
</template>
