<script setup lang="ts">
import { onMounted, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { data, service, words } from '../api/service'
import { useSession } from '../stores/session'
import { texts } from '../texts'

const session = useSession()
const route = useRoute()
const router = useRouter()
const name = ref('')
const password = ref('')
const trouble = ref('')
const busy = ref(false)
const provider = ref('')

onMounted(async () => {
  const refused = String(route.query.refused ?? '')
  if (refused) trouble.value = texts.signIn.refused(refused)
  try {
    provider.value = (await data(service.GET('/api/sign-in'))).openid
  } catch (e) {
    trouble.value = words(e)
  }
})

/** The address that sends the browser to the provider. */
function toProvider() {
  return `/api/sessions/openid?then=${encodeURIComponent(String(route.query.then ?? '/cases'))}`
}

async function submit() {
  busy.value = true
  trouble.value = ''
  try {
    await session.signIn(name.value.trim(), password.value)
    const then = String(route.query.then ?? '/cases')
    await router.push(then.startsWith('/') && !then.startsWith('//') ? then : '/cases')
  } catch (e) {
    trouble.value = texts.signIn.advice(words(e))
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <div class="middle">
    <form class="card" @submit.prevent="submit">
      <h1><img src="/icon.svg" alt="" width="34" height="34" /> {{ texts.signIn.product }}</h1>
      <p class="soft">{{ texts.signIn.motto }}</p>
      <label for="name">{{ texts.signIn.name }}</label>
      <el-input id="name" v-model="name" autocomplete="username" autofocus size="large" />
      <label for="password">{{ texts.signIn.password }}</label>
      <el-input id="password" v-model="password" type="password" autocomplete="current-password" size="large" />
      <p v-if="trouble" class="trouble" role="alert">{{ trouble }}</p>
      <el-button id="sign-in" type="primary" native-type="submit" size="large" :loading="busy">{{ texts.signIn.signIn }}</el-button>
      <a v-if="provider" id="sign-in-by" class="by" :href="toProvider()">{{ texts.signIn.by(provider) }}</a>
    </form>
  </div>
</template>
