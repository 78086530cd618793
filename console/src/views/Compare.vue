<script setup lang="ts">
import { computed, onMounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import ComparedPage from '../components/ComparedPage.vue'
import type { Broken, Case, Comparison, Evidence, Exhibit, Parting } from '../api/service'
import { data, service, words } from '../api/service'
import { everyPage } from '../pages'
import { texts } from '../texts'

const props = defineProps<{ case: string }>()
const route = useRoute()
const router = useRouter()
const path = { case: props.case }
const list = ref<Evidence[]>([])
const answer = ref<Comparison>()
const trouble = ref('')
const busy = ref(false)
const proposed = ref(new Set<string>())
const about = ref<Case>()
const note = ref('')
const kept = ref<Exhibit>()
const mayKeep = computed(() => about.value && about.value.role !== 'viewer')

const one = (name: string) => String(route.query[name] ?? '')
const failing = ref(one('failing'))
const passing = ref(one('passing'))
const ignore = ref(one('ignore'))
const also = ref<string[]>([route.query.also ?? []].flat().map(String))

const ready = computed(() => list.value.filter((e) => e.state === 'ready'))
const others = computed(() => ready.value.filter((e) => e.name !== failing.value && e.name !== passing.value))

/** The partings that can be chosen: the first one, then the causes. */
const partings = computed<Parting[]>(() => (answer.value?.first ? [answer.value.first, ...answer.value.causes] : []))
const at = computed(() => Math.min(Number(route.query.at ?? 1), partings.value.length - 1))
const chosen = computed(() => partings.value[at.value])

function marks(side: 'left' | 'right', file?: string) {
  const out = new Map<number, string>()
  partings.value.forEach((p, i) => {
    const place = p[side]
    if (place && place.file === file && !out.has(place.line)) out.set(place.line, i ? String(i) : texts.compare.firstMark)
  })
  return out
}

async function load() {
  trouble.value = ''
  answer.value = kept.value = undefined
  if (!failing.value || !passing.value) return
  busy.value = true
  try {
    const query = { with: passing.value, also: also.value, ignore: ignore.value }
    answer.value = await data(service.GET('/api/cases/{case}/evidence/{evidence}/compare', { params: { path: { ...path, evidence: failing.value }, query } }))
  } catch (e) {
    trouble.value = words(e)
  }
  busy.value = false
}

/** Puts the choice into the address, which others can open. */
function compare() {
  const query: Record<string, string | string[]> = { failing: failing.value, passing: passing.value }
  if (also.value.length) query.also = also.value
  if (ignore.value.trim()) query.ignore = ignore.value.trim()
  void router.push({ query }).then(load)
}

function choose(i: number) {
  void router.replace({ query: { ...route.query, at: String(i) } })
}

/** Keeps the comparison as an exhibit; what is compared is asked again, and stays as it was. */
async function keep() {
  trouble.value = ''
  busy.value = true
  try {
    const request = { with: one('passing'), also: [route.query.also ?? []].flat().map(String), ignore: one('ignore') }
    kept.value = await data(service.POST('/api/cases/{case}/exhibits', { params: { path }, body: { evidence: one('failing'), question: 'compare', request, note: note.value.trim() } }))
    note.value = ''
  } catch (e) {
    trouble.value = words(e)
  }
  busy.value = false
}

async function expect(x: Broken) {
  trouble.value = ''
  try {
    const body = { checkpoint: x.checkpoint, that: x.that, note: texts.compare.note(x.held) }
    await data(service.POST('/api/cases/{case}/expectations', { params: { path }, body }))
    proposed.value.add(x.checkpoint + x.that)
  } catch (e) {
    trouble.value = words(e)
  }
}

watch(failing, () => (also.value = also.value.filter((a) => a !== failing.value)))
onMounted(async () => {
  try {
    list.value = await everyPage((query) => data(service.GET('/api/cases/{case}/evidence', { params: { path, query } })), (e) => e.name)
    about.value = await data(service.GET('/api/cases/{case}', { params: { path } }))
    failing.value ||= ready.value.find((e) => !e.outcome.startsWith('ended without'))?.name ?? ''
    passing.value ||= ready.value.find((e) => e.outcome.startsWith('ended without') && e.name !== failing.value)?.name ?? ''
  } catch (e) {
    trouble.value = words(e)
  }
  if (one('failing')) await load()
})
</script>

<template>
  <section class="sheet">
    <h1>{{ texts.compare.title }}</h1>
    <form @submit.prevent="compare">
      <label>{{ texts.compare.failing }}
        <select v-model="failing"><option v-for="e in ready" :key="e.name" :value="e.name">{{ e.name }}</option></select>
      </label>
      <label>{{ texts.compare.passing }}
        <select v-model="passing"><option v-for="e in ready" :key="e.name" :value="e.name">{{ e.name }}</option></select>
      </label>
      <label v-if="others.length">{{ texts.compare.also }}
        <select v-model="also" multiple size="2"><option v-for="e in others" :key="e.name" :value="e.name">{{ e.name }}</option></select>
      </label>
      <label>{{ texts.compare.ignore }}
        <el-input v-model="ignore" :placeholder="texts.compare.ignoreHint" />
      </label>
      <el-button native-type="submit" type="primary" :disabled="!failing || !passing || busy">{{ texts.compare.submit }}</el-button>
    </form>
    <p v-if="trouble" role="alert" class="trouble">{{ trouble }}</p>
    <p v-if="busy" role="status">{{ texts.compare.busy }}</p>
    <p v-if="list.length && ready.length < 2">{{ texts.compare.few }}</p>
    <template v-if="answer">
      <p class="soft" role="status">{{ texts.compare.summary(answer, failing, passing) }}</p>
      <form v-if="mayKeep && !kept" class="keep" @submit.prevent="keep">
        <el-input v-model="note" :aria-label="texts.notes.note" :placeholder="texts.notes.noteHint" />
        <el-button native-type="submit" :disabled="busy">{{ texts.notes.keep }}</el-button>
      </form>
      <p v-if="kept" role="status"><RouterLink :to="{ name: 'notes', params: { case: props.case } }">{{ texts.compare.kept(kept.id) }}</RouterLink></p>
      <p v-if="!answer.first"><b>{{ texts.compare.equal }}</b></p>
      <div v-else class="parts">
        <div class="causes">
          <h2>{{ texts.compare.causes(answer.causes.length) }}</h2>
          <ol>
            <li v-for="(p, i) in partings" :key="i" :class="{ chosen: i === at }">
              <button type="button" :aria-pressed="i === at" @click="choose(i)">
                <span class="number">{{ i ? i : texts.compare.firstMark }}</span>
                <code>{{ p.name || texts.compare.nameless }}</code>
                <span class="soft">{{ p.why }}</span>
              </button>
            </li>
          </ol>
          <template v-if="answer.contrasts.length">
            <h2>{{ texts.compare.contrasts }}</h2>
            <ul>
              <li v-for="x in answer.contrasts" :key="x.checkpoint + x.that" class="contrast">
                <code>{{ x.that }}</code>
                <div class="soft">{{ texts.compare.at(x.checkpoint) }}</div>
                <div>{{ texts.compare.held(x) }}
                  <RouterLink v-if="x.broken" :to="{ name: 'sitting', params: { case: props.case, evidence: failing }, query: { moment: String(x.broken.moment), thread: x.broken.thread } }">{{ texts.compare.first(x.broken.moment) }}</RouterLink>
                  <button v-if="x.proposed && !proposed.has(x.checkpoint + x.that)" type="button" class="plain" @click="expect(x)">{{ texts.compare.expect }}</button>
                  <span v-if="proposed.has(x.checkpoint + x.that)" role="status">{{ texts.compare.expected }}</span>
                </div>
              </li>
            </ul>
          </template>
          <p v-if="answer.unexamined" class="soft">{{ texts.compare.unexamined }}</p>
        </div>
        <div v-if="chosen" class="pages">
          <ComparedPage :case="props.case" :evidence="failing" :place="chosen.left ?? undefined" :value="chosen.leftValue" :marks="marks('left', chosen.left?.file)" :title="texts.compare.failing" />
          <ComparedPage :case="props.case" :evidence="passing" :place="chosen.right ?? undefined" :value="chosen.rightValue" :marks="marks('right', chosen.right?.file)" :title="texts.compare.passing" />
        </div>
      </div>
    </template>
  </section>
</template>

<style scoped>
.sheet {
  padding: 18px 28px;
  display: flex;
  flex-direction: column;
  min-height: 100%;
  box-sizing: border-box;
}
form {
  display: flex;
  flex-wrap: wrap;
  gap: 12px 18px;
  align-items: end;
}
label {
  display: grid;
  gap: 3px;
}
select,
.plain {
  font: inherit;
  color: var(--ink);
  background: var(--fog-0);
  border: 1px solid var(--fog-3);
  border-radius: 3px;
  padding: 5px 8px;
}
form :deep(.el-input) {
  width: 290px;
}
.parts {
  display: grid;
  grid-template-columns: minmax(260px, 330px) 1fr;
  gap: 20px;
  flex: 1;
  min-height: 0;
}
.pages {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 12px;
  align-items: start;
  min-width: 0;
}
h2 {
  font-size: 16px;
  margin: 6px 0;
}
ol,
ul {
  list-style: none;
  margin: 0 0 14px;
  padding: 0;
}
li button:not(.plain) {
  display: grid;
  grid-template-columns: 34px 1fr;
  gap: 1px 6px;
  width: 100%;
  text-align: left;
  font: inherit;
  color: var(--ink);
  background: none;
  border: 0;
  border-left: 4px solid transparent;
  padding: 6px 8px;
  cursor: pointer;
}
.chosen button:not(.plain) {
  border-left-color: var(--now);
  background: var(--now-wash);
}
li button .soft {
  grid-column: 2;
  font-size: 13px;
  overflow-wrap: anywhere;
}
.number {
  grid-row: span 2;
  color: var(--wrong);
  font-weight: 600;
}
code {
  overflow-wrap: anywhere;
}
.contrast {
  padding: 6px 8px 6px 12px;
  border-left: 4px dotted var(--fog-3);
  margin-bottom: 6px;
}
</style>
