<script setup lang="ts">
import { onMounted, ref } from 'vue'
import { useRouter } from 'vue-router'
import type { Schemas } from '../api/service'
import { data, service } from '../api/service'
import { useSession } from '../stores/session'
import { useTrouble } from '../stores/trouble'
import { texts } from '../texts'

type Scope = NonNullable<Schemas['NewToken']['scope']>

const trouble = useTrouble()
const session = useSession()
const router = useRouter()
const tokens = ref<Schemas['Token'][]>([])
const sessions = ref<Schemas['Session'][]>([])
const label = ref('')
const scope = ref<Scope>('read')
const days = ref(90)
const made = ref('')
const old = ref('')
const next = ref('')
const changed = ref(false)
const scopes: Scope[] = ['read', 'write', 'ingest']

async function load() {
  tokens.value = await data(service.GET('/api/me/tokens'))
  sessions.value = await data(service.GET('/api/me/sessions'))
}

function make() {
  return trouble.attempt(async () => {
    made.value = (await data(service.POST('/api/me/tokens', { body: { label: label.value.trim(), scope: scope.value, days: days.value } }))).secret ?? ''
    label.value = ''
    await load()
  })
}

function revoke(id: number) {
  return trouble.attempt(async () => {
    await data(service.DELETE('/api/me/tokens/{id}', { params: { path: { id } } }))
    await load()
  })
}

function end(id: number) {
  return trouble.attempt(async () => {
    await data(service.DELETE('/api/me/sessions/{id}', { params: { path: { id } } }))
    await load()
  })
}

function endAll() {
  return trouble.attempt(async () => {
    await data(service.DELETE('/api/me/sessions'))
    session.name = ''
    await router.push({ name: 'sign-in' })
  })
}

function change() {
  changed.value = false
  return trouble.attempt(async () => {
    await data(service.POST('/api/me/password', { body: { old: old.value, new: next.value } }))
    old.value = next.value = ''
    changed.value = true
    await load()
  })
}

function when(at?: string) {
  return at ? new Date(at).toLocaleString() : texts.account.never
}

onMounted(() => trouble.attempt(load))
</script>

<template>
  <section class="sheet office">
    <h1>{{ texts.account.title }}</h1>
    <p class="soft">{{ session.name }}</p>
    <p v-if="trouble.trouble" role="alert" class="trouble">{{ trouble.trouble }}</p>
    <h2>{{ texts.account.tokens }}</h2>
    <p class="soft">{{ texts.account.tokensHint }}</p>
    <p v-if="made" role="status" class="made">
      {{ texts.account.secret }} <code>{{ made }}</code>
    </p>
    <table v-if="tokens.length">
      <thead>
        <tr>
          <th scope="col">{{ texts.account.label }}</th>
          <th scope="col">{{ texts.account.scope }}</th>
          <th scope="col">{{ texts.account.made }}</th>
          <th scope="col">{{ texts.account.used }}</th>
          <th scope="col">{{ texts.account.expires }}</th>
          <td></td>
        </tr>
      </thead>
      <tbody>
        <tr v-for="t in tokens" :key="t.id">
          <td>{{ t.label }}</td>
          <td>{{ texts.account.scopes[t.scope as Scope] }}</td>
          <td>{{ when(t.created) }}</td>
          <td>{{ when(t.used) }}</td>
          <td>{{ when(t.expires) }}</td>
          <td>
            <el-button size="small" @click="revoke(t.id)">{{ texts.account.revoke(t.label) }}</el-button>
          </td>
        </tr>
      </tbody>
    </table>
    <p v-else>{{ texts.account.noTokens }}</p>
    <form id="new-token" @submit.prevent="make">
      <el-input v-model="label" :aria-label="texts.account.label" :placeholder="texts.account.labelHint" />
      <el-select v-model="scope" :aria-label="texts.account.scope">
        <el-option v-for="s in scopes" :key="s" :value="s" :label="texts.account.scopes[s]" />
      </el-select>
      <el-input-number v-model="days" :min="0" :max="3660" :aria-label="texts.account.days" controls-position="right" />
      <span class="soft">{{ texts.account.daysHint }}</span>
      <el-button native-type="submit" :disabled="!label.trim()">{{ texts.account.make }}</el-button>
    </form>
    <h2>{{ texts.account.sessions }}</h2>
    <p class="soft">{{ texts.account.sessionsHint }}</p>
    <table>
      <thead>
        <tr>
          <th scope="col">{{ texts.account.signedIn }}</th>
          <th scope="col">{{ texts.account.used }}</th>
          <th scope="col">{{ texts.account.ends }}</th>
          <td></td>
        </tr>
      </thead>
      <tbody>
        <tr v-for="s in sessions" :key="s.id">
          <td>{{ when(s.created) }}</td>
          <td>{{ when(s.used) }}</td>
          <td>{{ when(s.expires) }}</td>
          <td>
            <el-button size="small" @click="end(s.id)">{{ texts.account.end(s.id) }}</el-button>
          </td>
        </tr>
      </tbody>
    </table>
    <el-button id="end-all" @click="endAll">{{ texts.account.endAll }}</el-button>
    <h2>{{ texts.account.password }}</h2>
    <p class="soft">{{ texts.account.passwordHint }}</p>
    <form @submit.prevent="change">
      <el-input v-model="old" type="password" autocomplete="current-password" :aria-label="texts.account.old" :placeholder="texts.account.old" />
      <el-input v-model="next" type="password" autocomplete="new-password" :aria-label="texts.account.next" :placeholder="texts.account.next" />
      <el-button native-type="submit" :disabled="!old || next.length < 8">{{ texts.account.change }}</el-button>
    </form>
    <p v-if="changed" role="status">{{ texts.account.changed }}</p>
  </section>
</template>
