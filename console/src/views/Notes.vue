<script setup lang="ts">
import { computed, onMounted, onUnmounted, ref, watch } from 'vue'
import type { Activity, Case, Member, Theory } from '../api/service'
import { data, service } from '../api/service'
import CommentList from '../components/CommentList.vue'
import ExhibitCard from '../components/ExhibitCard.vue'
import { useKept } from '../stores/kept'
import { useTrouble } from '../stores/trouble'
import { texts } from '../texts'

const props = defineProps<{ case: string }>()
const kept = useKept()
const trouble = useTrouble()
const about = ref<Case>()
const members = ref<Member[]>([])
const since = ref<Activity>()
const theory = ref('')
const said = ref('')
const handOver = ref('')
const handTo = ref('')

const mayWork = computed(() => !!about.value && about.value.role !== 'viewer')
const states: Theory['state'][] = ['open', 'supported', 'refuted']
const byState = computed(() => states.map((state) => ({ state, list: kept.theories.filter((t) => t.state === state) })))

let closeKept: (() => void) | undefined

async function load() {
  closeKept = kept.open(props.case)
  await trouble.attempt(async () => {
    const path = { case: props.case }
    about.value = await data(service.GET('/api/cases/{case}', { params: { path } }))
    members.value = await data(service.GET('/api/cases/{case}/members', { params: { path, query: { count: 2000 } } }))
    since.value = await data(service.GET('/api/cases/{case}/activity', { params: { path } }))
  })
}

/** The person has seen what changed. */
function seen() {
  return trouble.attempt(async () => {
    const path = { case: props.case }
    await data(service.POST('/api/cases/{case}/seen', { params: { path }, body: { upto: since.value!.upto } }))
    since.value = await data(service.GET('/api/cases/{case}/activity', { params: { path } }))
  })
}

async function suspect() {
  if (await kept.suspect(theory.value.trim())) theory.value = ''
}

async function say() {
  if (await kept.say(said.value, {})) said.value = ''
}

function argue(t: Theory, e: Event, supports: boolean) {
  const field = e.target as HTMLSelectElement
  const exhibit = Number(field.value)
  field.value = ''
  if (exhibit) void kept.argue(t.id, exhibit, supports)
}

function write() {
  return trouble.attempt(async () => {
    handOver.value = (await data(service.GET('/api/cases/{case}/handover', { params: { path: { case: props.case } } }))).text
  })
}

function sendHandOver() {
  return trouble.attempt(async () => {
    await data(service.POST('/api/cases/{case}/handover', { params: { path: { case: props.case } }, body: { text: handOver.value, to: handTo.value ? [handTo.value] : [] } }))
    handOver.value = ''
  })
}

/** What a link leads to is gone to when it is there. */
const stopLooking = watch(
  () => [kept.comments.length, kept.exhibits.length],
  () => {
    const at = location.hash && document.getElementById(location.hash.slice(1))
    if (!at) return
    stopLooking()
    const to = location.hash
    location.hash = ''
    location.hash = to // the browser goes there, and marks it
  },
  { flush: 'post' },
)

onMounted(load)
watch(() => props.case, load)
onUnmounted(() => closeKept?.())
</script>

<template>
  <section class="sheet">
    <h1>{{ about?.title ?? props.case }}</h1>
    <p v-if="trouble.trouble" role="alert" class="trouble">{{ trouble.trouble }}</p>
    <p class="links">
      {{ texts.notes.report }}
      <a :href="`/api/cases/${props.case}/report?format=html`" target="_blank" rel="noopener">{{ texts.notes.html }}</a>
      <a :href="`/api/cases/${props.case}/report?format=pdf`" target="_blank" rel="noopener">{{ texts.notes.pdf }}</a>
      <a :href="`/api/cases/${props.case}/report`" :download="`${props.case}.md`">{{ texts.notes.markdown }}</a>
      <a :href="`/api/cases/${props.case}/archive`" :download="`${props.case}.case.zip`">{{ texts.notes.archive }}</a>
      <button type="button" class="plain" @click="write">{{ texts.notes.handOver }}</button>
    </p>
    <form v-if="handOver" class="hand" @submit.prevent="sendHandOver">
      <el-input v-model="handOver" type="textarea" :autosize="{ minRows: 6, maxRows: 18 }" :aria-label="texts.notes.handOverText" />
      <p>
        <select v-model="handTo" :aria-label="texts.notes.handTo">
          <option value="">{{ texts.notes.handToAll }}</option>
          <option v-for="m in members" :key="m.name" :value="m.name">{{ m.name }}</option>
        </select>
        <el-button native-type="submit" type="primary">{{ texts.notes.post }}</el-button>
        <el-button @click="handOver = ''">{{ texts.notes.cancel }}</el-button>
      </p>
    </form>
    <div v-if="since?.entries.length" class="since">
      <h2>{{ texts.notes.since }} <button type="button" class="plain" @click="seen">{{ texts.notes.seen }}</button></h2>
      <ul>
        <li v-for="e in since.entries" :key="e.id"><time class="soft" :datetime="e.at">{{ new Date(e.at).toLocaleString() }}</time> <b>{{ e.by }}</b> {{ e.what }}</li>
      </ul>
    </div>
    <h2>{{ texts.notes.theories }}</h2>
    <form v-if="mayWork" @submit.prevent="suspect">
      <el-input v-model="theory" :aria-label="texts.notes.theory" :placeholder="texts.notes.theoryHint" />
      <el-button native-type="submit" :disabled="!theory.trim()">{{ texts.notes.suspect }}</el-button>
    </form>
    <div class="states">
      <section v-for="g in byState" :key="g.state" :aria-label="texts.notes.states[g.state]" :data-state="g.state">
        <h3>{{ texts.notes.states[g.state] }} <span class="soft">{{ g.list.length }}</span></h3>
        <article v-for="t in g.list" :key="t.id" :data-theory="t.id">
          <p>{{ t.text }}</p>
          <p v-if="t.note" class="soft">{{ t.note }}</p>
          <p class="soft">
            {{ t.by }}
            <template v-for="(ids, side) in { for: t.for, against: t.against }" :key="side">
              <br v-if="ids.length" /><template v-if="ids.length">{{ texts.notes.sides[side] }} <template v-for="id in ids" :key="id"><a :href="`#exhibit-${id}`">{{ texts.notes.exhibit(id) }}</a><button v-if="mayWork" type="button" class="plain" :aria-label="texts.notes.unargueOf(id)" @click="kept.unargue(t.id, id)">{{ texts.notes.takeAway }}</button> </template></template>
            </template>
          </p>
          <p v-if="mayWork" class="acts">
            <select :value="t.state" :aria-label="texts.notes.stateOf(t.text)" @change="kept.judge(t.id, ($event.target as HTMLSelectElement).value as Theory['state'])">
              <option v-for="s in states" :key="s" :value="s">{{ texts.notes.states[s] }}</option>
            </select>
            <select v-for="supports in [true, false]" :key="String(supports)" :aria-label="texts.notes.addSide(supports)" @change="argue(t, $event, supports)">
              <option value="">{{ texts.notes.addSide(supports) }}</option>
              <option v-for="x in kept.exhibits" :key="x.id" :value="x.id">{{ texts.notes.exhibit(x.id) }}: {{ x.note || x.question }}</option>
            </select>
          </p>
        </article>
      </section>
    </div>
    <h2>{{ texts.notes.exhibits }}</h2>
    <p v-if="!kept.exhibits.length" class="soft">{{ texts.notes.noExhibits }}</p>
    <div class="cards">
      <ExhibitCard v-for="x in kept.exhibits" :key="x.id" :exhibit="x" :case="props.case" :may-work="mayWork" @drop="kept.drop(x.id)" />
    </div>
    <h2>{{ texts.notes.comments }}</h2>
    <form v-if="mayWork" @submit.prevent="say">
      <el-input v-model="said" type="textarea" :rows="2" :aria-label="texts.notes.text" :placeholder="texts.notes.caseHint" />
      <el-button native-type="submit" :disabled="!said.trim()">{{ texts.notes.submit }}</el-button>
    </form>
    <CommentList :list="kept.comments" :case="props.case" />
  </section>
</template>

<style scoped>
.sheet {
  padding: 18px 28px 60px;
  max-width: 1240px;
}
h2 {
  margin: 28px 0 8px;
  font-size: 18px;
}
h3 {
  margin: 0 0 6px;
  font-size: 15px;
}
form {
  display: flex;
  gap: 10px;
  align-items: end;
  margin-bottom: 10px;
}
.hand {
  display: block;
}
.links {
  display: flex;
  gap: 14px;
  align-items: baseline;
}
.since ul {
  max-height: 190px;
  overflow: auto;
  margin: 0;
  padding: 8px 14px;
  list-style: none;
  background: var(--fog-0);
  border-left: 4px solid var(--now);
}
.states {
  display: grid;
  grid-template-columns: repeat(3, 1fr);
  gap: 16px;
}
.states section {
  padding: 10px 12px;
  background: var(--fog-0);
  border-top: 4px solid var(--fog-3);
}
.states section[data-state='supported'] {
  border-top-color: var(--now);
}
.states section[data-state='refuted'] {
  border-top-style: dotted;
}
.states article {
  padding: 6px 0;
  border-top: 1px solid var(--fog-2);
}
.states p {
  margin: 2px 0;
}
.acts {
  display: flex;
  flex-wrap: wrap;
  gap: 6px;
}
select {
  max-width: 150px;
  padding: 0;
  font-size: 13px;
}
.cards {
  display: grid;
  gap: 12px;
}
</style>
