<script setup lang="ts">
import { computed, onMounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import type { Case } from '../api/service'
import { data, sent, service, words } from '../api/service'
import { texts } from '../texts'

const most = 200
const router = useRouter()
const route = useRoute()
const cases = ref<Case[]>()
const isAll = ref(true)
const trouble = ref('')
const name = ref('')
const title = ref('')
const file = ref<File>()
const as = ref('')
const isSending = ref(false)

const fields = ['text', 'program', 'failure', 'person'] as const
/** What is searched for, as in the address of the page. */
const wanted = ref<Record<string, string>>({})
const isSearch = computed(() => Object.keys(route.query).length > 0)

/** The next page, after the last case that is listed. */
async function more() {
  const shown = cases.value ?? []
  const next = await found(shown[shown.length - 1]?.name)
  if (next) cases.value = [...shown, ...next]
  isAll.value = !next || next.length < most
}

async function load() {
  wanted.value = { state: '', ...Object.fromEntries(Object.entries(route.query).map(([k, v]) => [k, String(v)])) }
  cases.value = await found()
  isAll.value = (cases.value?.length ?? 0) < most
}

/** A page of the cases that the address chooses. */
async function found(after?: string) {
  const { since, until, state, ...rest } = Object.fromEntries(Object.entries(route.query).map(([k, v]) => [k, String(v)]))
  const day = (text: string | undefined) => (text ? new Date(text).toISOString() : undefined)
  try {
    trouble.value = ''
    return await data(service.GET('/api/cases', { params: { query: { ...rest, state: (state || undefined) as 'open' | undefined, since: day(since), until: day(until), count: most, after } } }))
  } catch (e) {
    trouble.value = words(e)
  }
}

function search() {
  void router.push({ query: Object.fromEntries(Object.entries(wanted.value).filter(([, v]) => v.trim())) })
}

async function open() {
  trouble.value = ''
  try {
    const c = await data(service.POST('/api/cases', { body: { name: name.value.trim(), title: title.value.trim() || name.value.trim() } }))
    await router.push({ name: 'evidence', params: { case: c.name } })
  } catch (e) {
    trouble.value = words(e)
  }
}

async function bring() {
  trouble.value = ''
  isSending.value = true
  try {
    const c = await sent<Case>('POST', `/api/archives?as=${encodeURIComponent(as.value.trim())}`, file.value!)
    await router.push({ name: 'evidence', params: { case: c.name } })
  } catch (e) {
    trouble.value = words(e)
  } finally {
    isSending.value = false
  }
}

onMounted(load)
watch(() => route.query, load)
</script>

<template>
  <section class="sheet">
    <h1>{{ texts.cases.title }}</h1>
    <p v-if="trouble" role="alert" class="trouble">{{ trouble }}</p>
    <form class="find" role="search" @submit.prevent="search">
      <el-input v-for="f in fields" :key="f" v-model="wanted[f]" :aria-label="texts.cases.find[f]" :placeholder="texts.cases.find[f]" />
      <select v-model="wanted.state" :aria-label="texts.cases.state">
        <option v-for="(word, s) in texts.cases.states" :key="s" :value="s">{{ word }}</option>
      </select>
      <label>{{ texts.cases.since }} <input v-model="wanted.since" type="date" /></label>
      <label>{{ texts.cases.until }} <input v-model="wanted.until" type="date" /></label>
      <el-button native-type="submit">{{ texts.cases.search }}</el-button>
    </form>
    <p v-if="cases && !cases.length">{{ isSearch ? texts.cases.notFound : texts.cases.none }}</p>
    <ul v-if="cases?.length">
      <li v-for="c in cases" :key="c.name">
        <RouterLink :to="{ name: 'evidence', params: { case: c.name } }">{{ c.title || c.name }}</RouterLink>
        <code>{{ c.name }}</code>
        <span class="soft">{{ texts.cases.role(c.role) }}</span>
        <span class="soft">{{ texts.cases.members(c.members, 6) }}</span>
        <time class="soft" :datetime="c.created">{{ texts.cases.opened(c.created) }}</time>
        <span v-if="c.closed" class="closed">{{ texts.cases.closed(c.cause ?? '') }}</span>
      </li>
    </ul>
    <button v-if="!isAll" type="button" class="plain" @click="more">{{ texts.cases.older }}</button>
    <h2>{{ texts.cases.open }}</h2>
    <form @submit.prevent="open">
      <div><label for="case-name">{{ texts.cases.name }}</label><el-input id="case-name" v-model="name" :placeholder="texts.cases.nameHint" /></div>
      <div><label for="case-title">{{ texts.cases.about }}</label><el-input id="case-title" v-model="title" /></div>
      <el-button native-type="submit" type="primary" :disabled="!name.trim()">{{ texts.cases.submit }}</el-button>
    </form>
    <h2>{{ texts.cases.import }}</h2>
    <form @submit.prevent="bring">
      <div><label for="archive">{{ texts.cases.archive }}</label><input id="archive" type="file" accept=".zip" @change="file = ($event.target as HTMLInputElement).files?.[0]" /></div>
      <div><label for="archive-name">{{ texts.cases.as }}</label><el-input id="archive-name" v-model="as" :placeholder="texts.cases.nameHint" /></div>
      <el-button native-type="submit" :disabled="!file" :loading="isSending">{{ texts.cases.bring }}</el-button>
    </form>
  </section>
</template>

<style scoped>
.sheet {
  max-width: 980px;
  padding: 18px 28px;
}
ul {
  list-style: none;
  padding: 0;
  border-top: 1px solid var(--fog-3);
}
li {
  display: grid;
  grid-template-columns: 1.6fr 1fr auto 1.6fr auto;
  gap: 18px;
  align-items: baseline;
  padding: 12px 8px;
  background: var(--fog-0);
  border-bottom: 1px solid var(--fog-3);
}
li a {
  font-size: 17px;
  font-weight: 600;
}
h2 {
  margin-top: 34px;
  font-size: 17px;
}
form {
  display: flex;
  gap: 14px;
  align-items: end;
}
form div {
  flex: 1;
}
form label {
  display: block;
}
.find {
  flex-wrap: wrap;
  align-items: center;
  margin-bottom: 18px;
}
.find .el-input {
  flex: 0 0 172px;
}
.find label {
  display: inline;
}
.closed {
  grid-column: 1 / -1;
  color: var(--ink-soft);
}
</style>
