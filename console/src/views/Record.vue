<script setup lang="ts">
import { computed, onMounted, ref, watch } from 'vue'
import type { Case, Schemas } from '../api/service'
import { data, service } from '../api/service'
import { useTrouble } from '../stores/trouble'
import { texts } from '../texts'

const props = defineProps<{ case: string }>()
const trouble = useTrouble()
type Rule = Schemas['Rule']
const kinds: Rule['on'][] = ['name', 'field', 'attribute', 'header', 'type', 'text']
const entriesOfPage = 100

const about = ref<Case>()
const rules = ref<Rule[]>([])
const except = ref('')
const withDefaults = ref(true)
const on = ref<Rule['on']>('name')
const match = ref('')
const saved = ref('')
const entries = ref<Schemas['Entry'][]>([])
const mayBeMore = ref(false)
const reads = ref(false)
const text = ref('')

const path = computed(() => ({ case: props.case }))
const leads = computed(() => about.value?.role === 'lead')

async function loadRules() {
  const m = await data(service.GET('/api/cases/{case}/mask', { params: { path: path.value } }))
  rules.value = m.list ?? []
  except.value = (m.except ?? []).join(' ')
  withDefaults.value = !m.withoutDefaults
}

async function loadEntries(before = 0) {
  const page = await data(service.GET('/api/cases/{case}/custody', { params: { path: path.value, query: { before, count: entriesOfPage, reads: reads.value, text: text.value.trim() } } }))
  entries.value = before ? [...entries.value, ...page] : page
  mayBeMore.value = page.length === entriesOfPage
}

function addRule() {
  rules.value = [...rules.value, { on: on.value, match: match.value.trim() }]
  match.value = ''
}

function save() {
  saved.value = ''
  return trouble.attempt(async () => {
    const body = { list: rules.value, except: except.value.split(/\s+/).filter(Boolean), withoutDefaults: !withDefaults.value }
    const m = await data(service.PUT('/api/cases/{case}/mask', { params: { path: path.value }, body }))
    saved.value = texts.record.saved(m.evidence ?? 0)
    await loadEntries()
  })
}

function open() {
  return trouble.attempt(async () => {
    about.value = await data(service.GET('/api/cases/{case}', { params: { path: path.value } }))
    await loadRules()
    await loadEntries()
  })
}

onMounted(open)
watch(() => props.case, open)
</script>

<template>
  <section class="sheet office">
    <h1>{{ texts.record.title }}</h1>
    <p class="soft">{{ about?.title ?? props.case }}</p>
    <p v-if="trouble.trouble" role="alert" class="trouble">{{ trouble.trouble }}</p>
    <h2>{{ texts.record.masked }}</h2>
    <p class="soft">{{ texts.record.maskedHint }}</p>
    <ul id="rules">
      <li v-if="withDefaults">{{ texts.record.defaults }}</li>
      <li v-for="(r, i) in rules" :key="`${r.on}:${r.match}`">
        {{ texts.record.on[r.on] }} <code>{{ r.match }}</code>
        <button v-if="leads" type="button" class="plain" :aria-label="texts.record.dropOf(r.match)" @click="rules = rules.filter((_, n) => n !== i)">{{ texts.record.drop }}</button>
      </li>
      <li v-if="except && !leads">{{ texts.record.except }} <code>{{ except }}</code></li>
    </ul>
    <template v-if="leads">
      <form id="new-rule" @submit.prevent="addRule">
        <select v-model="on" :aria-label="texts.record.onLabel">
          <option v-for="k in kinds" :key="k" :value="k">{{ texts.record.on[k] }}</option>
        </select>
        <el-input v-model="match" :aria-label="texts.record.match" :placeholder="on === 'text' ? texts.record.textHint : texts.record.nameHint" />
        <el-button native-type="submit" :disabled="!match.trim()">{{ texts.record.add }}</el-button>
      </form>
      <form id="mask" @submit.prevent="save">
        <label><input v-model="withDefaults" type="checkbox" /> {{ texts.record.withDefaults }}</label>
        <label>{{ texts.record.except }} <el-input v-model="except" :placeholder="texts.record.exceptHint" /></label>
        <el-button native-type="submit">{{ texts.record.save }}</el-button>
      </form>
      <p v-if="saved" role="status">{{ saved }}</p>
    </template>
    <h2>{{ texts.record.did }}</h2>
    <p class="soft">{{ texts.record.didHint }}</p>
    <form id="find-entries" @submit.prevent="trouble.attempt(() => loadEntries())">
      <el-input v-model="text" :aria-label="texts.record.find" :placeholder="texts.record.findHint" clearable />
      <label><input v-model="reads" type="checkbox" @change="trouble.attempt(() => loadEntries())" /> {{ texts.record.reads }}</label>
      <el-button native-type="submit">{{ texts.record.find }}</el-button>
      <a :href="`/api/cases/${encodeURIComponent(props.case)}/custody/export`" download>{{ texts.record.export }}</a>
    </form>
    <table id="entries">
      <thead>
        <tr>
          <th scope="col">{{ texts.record.number }}</th>
          <th scope="col">{{ texts.record.at }}</th>
          <th scope="col">{{ texts.record.who }}</th>
          <th scope="col">{{ texts.record.what }}</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="e in entries" :key="e.number" :class="{ soft: e.read }">
          <td class="number" :title="texts.record.hash(e.hash)">{{ e.number }}</td>
          <td class="at">{{ new Date(e.at).toLocaleString() }}</td>
          <td>{{ e.by }}</td>
          <td>{{ e.what }}</td>
        </tr>
      </tbody>
    </table>
    <p v-if="!entries.length">{{ texts.record.none }}</p>
    <el-button v-if="mayBeMore" @click="trouble.attempt(() => loadEntries(entries[entries.length - 1].number))">{{ texts.record.older }}</el-button>
  </section>
</template>

<style scoped>
.number {
  text-align: right;
}
.at {
  white-space: nowrap;
}
</style>
