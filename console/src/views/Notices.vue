<script setup lang="ts">
import { useIntervalFn } from '@vueuse/core'
import { computed, onMounted, ref, watch } from 'vue'
import type { Case, Hook, Notices } from '../api/service'
import { data, service, words } from '../api/service'
import { useTrouble } from '../stores/trouble'
import { texts } from '../texts'

const props = defineProps<{ case: string }>()
const trouble = useTrouble()
const about = ref<Case>()
const notices = ref<Notices>()
const hooks = ref<Hook[]>([])
const mail = ref('')
const url = ref('')
const kinds = ref<('checkpoint' | 'expectation' | 'failure')[]>([])
const made = ref<Hook>()
const tried = ref<Record<number, string>>({})

const leads = computed(() => about.value?.role === 'lead')
const latestFirst = computed(() => [...(notices.value?.list ?? [])].reverse())
const path = computed(() => ({ case: props.case }))

async function load() {
  const params = { path: path.value }
  about.value = await data(service.GET('/api/cases/{case}', { params }))
  notices.value = await data(service.GET('/api/cases/{case}/notices', { params: { ...params, query: { latest: true, count: 100 } } }))
  hooks.value = await data(service.GET('/api/cases/{case}/hooks', { params }))
}

function open() {
  return trouble.attempt(async () => {
    await load()
    mail.value = notices.value?.mail ?? ''
  })
}

/** What arrives, and what becomes of the requests, is shown without being asked for. */
useIntervalFn(() => load().catch((e: unknown) => (trouble.trouble = words(e))), 5000)

function saveMail() {
  return trouble.attempt(async () => {
    await data(service.PATCH('/api/me', { body: { mail: mail.value.trim() } }))
    await load()
  })
}

function turn(isOn: boolean) {
  return trouble.attempt(async () => {
    await data(service.PUT('/api/cases/{case}/notices', { params: { path: path.value }, body: { isOn } }))
    await load()
  })
}

function addHook() {
  return trouble.attempt(async () => {
    made.value = await data(service.POST('/api/cases/{case}/hooks', { params: { path: path.value }, body: { url: url.value.trim(), kinds: kinds.value } }))
    url.value = ''
    kinds.value = []
    await load()
  })
}

function removeHook(id: number) {
  return trouble.attempt(async () => {
    await data(service.DELETE('/api/cases/{case}/hooks/{id}', { params: { path: { ...path.value, id } } }))
    if (made.value?.id === id) made.value = undefined
    await load()
  })
}

async function tryHook(id: number) {
  tried.value = { ...tried.value, [id]: texts.notices.trying }
  let said: string = texts.notices.took
  try {
    await data(service.POST('/api/cases/{case}/hooks/{id}/trial', { params: { path: { ...path.value, id } } }))
  } catch (e) {
    said = words(e)
  }
  tried.value = { ...tried.value, [id]: said }
}

onMounted(open)
watch(() => props.case, open)
</script>

<template>
  <section class="sheet office">
    <h1>{{ texts.notices.title }}</h1>
    <p class="soft">{{ about?.title ?? props.case }}</p>
    <p v-if="trouble.trouble" role="alert" class="trouble">{{ trouble.trouble }}</p>
    <h2>{{ texts.notices.byMail }}</h2>
    <p v-if="notices && !notices.canMail">{{ texts.notices.cannot }}</p>
    <form v-if="notices" @submit.prevent="saveMail">
      <el-input v-model="mail" :aria-label="texts.notices.address" :placeholder="texts.notices.addressHint" />
      <el-button native-type="submit" :disabled="mail.trim() === notices.mail">{{ texts.notices.save }}</el-button>
      <label><input type="checkbox" :checked="notices.isOn" @change="turn(($event.target as HTMLInputElement).checked)" /> {{ texts.notices.isOn }}</label>
    </form>
    <h2>{{ texts.notices.list }}</h2>
    <p v-if="notices && !notices.list.length" class="soft">{{ texts.notices.none }}</p>
    <article v-for="n in latestFirst" :key="n.id" :data-notice="n.kind">
      <details>
        <summary>
          <time class="soft" :datetime="n.at">{{ new Date(n.at).toLocaleString() }}</time> {{ n.subject }}
        </summary>
        <!-- eslint-disable-next-line vue/no-v-html -- rendered and cleaned by the service -->
        <div class="rendered" v-html="n.html"></div>
        <RouterLink v-if="n.evidence" :to="{ name: 'sitting', params: { case: props.case, evidence: n.evidence }, query: n.place ? { moment: String(n.place.moment), thread: n.place.thread, frame: String(n.place.frame) } : {} }">{{ texts.notices.open(n.evidence) }}</RouterLink>
        <RouterLink v-else :to="{ name: 'notes', params: { case: props.case } }">{{ texts.notices.notes }}</RouterLink>
      </details>
    </article>
    <h2>{{ texts.notices.hooks }}</h2>
    <p class="soft">{{ texts.notices.hooksHint }}</p>
    <p v-if="made" role="status" class="made">
      {{ texts.notices.secret(made.id) }} <code>{{ made.secret }}</code>
    </p>
    <table v-if="hooks.length">
      <thead>
        <tr>
          <th scope="col">{{ texts.notices.number }}</th>
          <th scope="col">{{ texts.notices.to }}</th>
          <th scope="col">{{ texts.notices.what }}</th>
          <th scope="col">{{ texts.notices.latest }}</th>
          <th v-if="leads" scope="col"><span class="hidden">{{ texts.notices.acts }}</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="h in hooks" :key="h.id">
          <td>{{ h.id }}</td>
          <td class="mono">{{ h.url }}</td>
          <td>{{ h.kinds.length ? h.kinds.map((k) => texts.notices.kinds[k as 'failure']).join(', ') : texts.notices.all }}</td>
          <td :class="{ trouble: h.ended || h.trouble }" role="status">{{ tried[h.id] ?? texts.notices.state(h) }}</td>
          <td v-if="leads">
            <button type="button" class="plain" :aria-label="texts.notices.tryOf(h.id)" @click="tryHook(h.id)">{{ texts.notices.try }}</button>
            <button type="button" class="plain" :aria-label="texts.notices.deleteOf(h.id)" @click="removeHook(h.id)">{{ texts.notices.delete }}</button>
          </td>
        </tr>
      </tbody>
    </table>
    <form v-if="leads" @submit.prevent="addHook">
      <el-input v-model="url" :aria-label="texts.notices.url" :placeholder="texts.notices.urlHint" />
      <label v-for="(word, k) in texts.notices.kinds" :key="k"><input v-model="kinds" type="checkbox" :value="k" /> {{ word }}</label>
      <el-button native-type="submit" :disabled="!url.trim()">{{ texts.notices.add }}</el-button>
    </form>
  </section>
</template>

<style scoped>
form .el-input {
  width: 360px;
}
article {
  padding: 7px 12px;
  background: var(--fog-0);
  border-bottom: 1px solid var(--fog-2);
  border-left: 4px solid var(--fog-3);
}
article[data-notice='expectation'],
article[data-notice='failure'] {
  border-left-color: var(--wrong);
}
article[data-notice='checkpoint'] {
  border-left-color: var(--mark);
}
summary {
  cursor: pointer;
}
.rendered {
  overflow-x: auto;
}
td.mono,
td.trouble {
  overflow-wrap: anywhere;
}
</style>
