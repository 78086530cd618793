<script setup lang="ts">
import { onKeyStroke } from '@vueuse/core'
import { computed, onMounted, onUnmounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import AskPanel from '../components/AskPanel.vue'
import CallPanel from '../components/CallPanel.vue'
import Descent from '../components/Descent.vue'
import ElsewherePanel from '../components/ElsewherePanel.vue'
import HitsPanel from '../components/HitsPanel.vue'
import InstructionsPanel from '../components/InstructionsPanel.vue'
import KeyHelp from '../components/KeyHelp.vue'
import LedgerPanel from '../components/LedgerPanel.vue'
import LinePanel from '../components/LinePanel.vue'
import MemoryPanel from '../components/MemoryPanel.vue'
import MessagesPage from '../components/MessagesPage.vue'
import NotesPanel from '../components/NotesPanel.vue'
import OriginPanel from '../components/OriginPanel.vue'
import RacesPanel from '../components/RacesPanel.vue'
import SearchPanel from '../components/SearchPanel.vue'
import SourcePage from '../components/SourcePage.vue'
import SpansPage from '../components/SpansPage.vue'
import StoryPanel from '../components/StoryPanel.vue'
import TalkPanel from '../components/TalkPanel.vue'
import ThreadsPanel from '../components/ThreadsPanel.vue'
import TimeLanes from '../components/TimeLanes.vue'
import ValueTree from '../components/ValueTree.vue'
import WaitsPanel from '../components/WaitsPanel.vue'
import WatchedValues from '../components/WatchedValues.vue'
import WhoIsHere from '../components/WhoIsHere.vue'
import { useSession } from '../stores/session'
import { useCheckpoints } from '../stores/checkpoints'
import { useDrawer } from '../stores/drawer'
import { useEvidence } from '../stores/evidence'
import { useFrame } from '../stores/frame'
import { useKept } from '../stores/kept'
import { useLookups } from '../stores/lookups'
import { useSitting } from '../stores/sitting'
import { useTrouble } from '../stores/trouble'
import { texts } from '../texts'
import { data, service, showSecrets, showsSecrets } from '../api/service'

const props = defineProps<{ case: string; evidence: string }>()
const checkpoints = useCheckpoints()
const drawer = useDrawer()
const loaded = useEvidence()
const here = useFrame()
const sitting = useSitting()
const trouble = useTrouble()
const session = useSession()
const lookups = useLookups()
const kept = useKept()
const route = useRoute()
const router = useRouter()
const help = ref(false)
const moment = ref('')
const momentField = ref<{ focus: () => void }>()

/** Whether the person may see what is masked, and does. */
const mayUnmask = ref(false)
const unmasked = computed(() => showsSecrets(props.case))

function unmask() {
  showSecrets(props.case, !unmasked.value)
  location.reload()
}

const failure = computed(() => loaded.peek?.failure)
/** What failed, said once. */
const wrong = computed(() => {
  const f = failure.value
  return !f ? '' : f.summary.startsWith(`${f.kind}: `) ? f.summary : `${f.kind}: ${f.summary}`
})
const about = computed(() => [loaded.peek?.evidence.program, loaded.hasLines && !loaded.isSnapshot ? '' : loaded.kind.replaceAll('-', ' '), loaded.isSnapshot ? texts.sitting.one : texts.sitting.moments(loaded.moments)].filter(Boolean).join(', '))
/** What the left half shows: source text where steps are its lines, else the spans of traces, else messages. */
const page = computed(() => {
  const t = loaded.traits
  if (t?.traces) return 'spans'
  return t?.messages && !t.lines ? 'messages' : 'source'
})
const gaps = computed(() => loaded.peek?.gaps ?? [])

function linked() {
  const q = route.query
  if (typeof q.moment !== 'string' || !/^\d+$/.test(q.moment)) return undefined
  return { moment: Number(q.moment), thread: String(q.thread ?? ''), frame: Number(q.frame ?? 0) }
}

let closeKept: (() => void) | undefined

function open() {
  void trouble.attempt(async () => {
    mayUnmask.value = (await data(service.GET('/api/cases/{case}', { params: { path: { case: props.case } } }))).unmasks ?? false
  })
  closeKept = kept.open(props.case)
  return sitting.open(props.case, props.evidence, session.name, linked())
}

onMounted(open)
watch(() => [props.case, props.evidence], open)
onUnmounted(() => {
  sitting.close()
  closeKept?.()
})

// The address always names the view, so that it can be sent to a teammate.
watch(
  () => here.place,
  (p) => {
    moment.value = String(p.moment)
    void router.replace({ query: { moment: String(p.moment), thread: p.thread, frame: String(p.frame) } })
  },
)

function goToMoment() {
  const m = Number(moment.value)
  if (Number.isInteger(m) && m >= 0) void sitting.goTo(m)
}

const frameKeys: Record<string, () => unknown> = {
  u: () => sitting.chooseFrame(here.place.frame + 1),
  d: () => sitting.chooseFrame(here.place.frame - 1),
  e: () => {
    drawer.tab = 'notes'
    setTimeout(() => document.getElementById('keep-note')?.focus())
  },
  '?': () => (help.value = !help.value),
}

const timeKeys: Record<string, () => unknown> = {
  j: () => sitting.step('over', false),
  k: () => sitting.step('over', true),
  l: () => sitting.step('into', false),
  L: () => sitting.step('into', true),
  h: () => sitting.step('out', false),
  H: () => sitting.step('out', true),
  n: () => sitting.run(false),
  p: () => sitting.run(true),
  m: () => here.frame && checkpoints.toggle(here.frame.line),
  g: () => momentField.value?.focus(),
  w: () => here.frame && (drawer.tab = 'why'),
  r: () => loaded.hasLines && lookups.reached(),
  '/': () => {
    drawer.tab = 'search'
    setTimeout(() => document.getElementById('search')?.focus())
  },
}

/** What has no history has no steps. */
const keys = computed(() => (loaded.isSnapshot ? frameKeys : { ...timeKeys, ...frameKeys }))

onKeyStroke(
  (e) => e.key in keys.value && !e.ctrlKey && !e.altKey && !e.metaKey,
  (e) => {
    const at = e.target as HTMLElement
    if (at.closest('input, textarea, select, [contenteditable="true"]')) return
    e.preventDefault()
    keys.value[e.key]()
  },
)
</script>

<template>
  <div class="sitting">
    <header>
      <div class="title">
        <h1>{{ evidence }}</h1>
        <span class="soft">{{ about }}</span>
        <button v-if="failure" id="to-failure" type="button" class="failure" :title="failure.summary" @click="sitting.go({ moment: failure.moment, thread: failure.thread, frame: failure.frame }, texts.sitting.goneToFailure)">
          <span class="notch" aria-hidden="true"></span>{{ loaded.isSnapshot ? texts.sitting.toFailure(failure.kind) : wrong }}
        </button>
      </div>
      <div class="people">
        <button v-if="mayUnmask" id="unmask" type="button" class="quiet" :class="{ unmasked }" :aria-pressed="unmasked" @click="unmask">{{ unmasked ? texts.sitting.mask : texts.sitting.unmask }}</button>
        <WhoIsHere />
      </div>
    </header>
    <TimeLanes v-if="!loaded.isSnapshot" />
    <div v-if="!loaded.isSnapshot" class="steps" role="toolbar" :aria-label="texts.sitting.steps">
      <span class="group">
        <button id="over-back" type="button" @click="sitting.step('over', true)">{{ loaded.hasLines ? texts.sitting.previousLine : texts.sitting.previous }} <kbd>k</kbd></button>
        <button id="over" type="button" @click="sitting.step('over', false)">{{ loaded.hasLines ? texts.sitting.nextLine : texts.sitting.next }} <kbd>j</kbd></button>
      </span>
      <span class="group">
        <button id="into-back" type="button" @click="sitting.step('into', true)">{{ texts.sitting.backInto }} <kbd>L</kbd></button>
        <button id="into" type="button" @click="sitting.step('into', false)">{{ texts.sitting.into }} <kbd>l</kbd></button>
      </span>
      <span class="group">
        <button id="out-back" type="button" @click="sitting.step('out', true)">{{ texts.sitting.backOut }} <kbd>H</kbd></button>
        <button id="out" type="button" @click="sitting.step('out', false)">{{ texts.sitting.out }} <kbd>h</kbd></button>
      </span>
      <span class="group">
        <button id="run-back" type="button" @click="sitting.run(true)">{{ texts.sitting.previousHit }} <kbd>p</kbd></button>
        <button id="run" type="button" @click="sitting.run(false)">{{ texts.sitting.nextHit }} <kbd>n</kbd></button>
      </span>
      <label class="moment">{{ texts.sitting.moment }} <el-input ref="momentField" v-model="moment" size="small" :aria-label="texts.sitting.moment" @keyup.enter="goToMoment" /></label>
      <span id="reason" class="soft" aria-live="polite">{{ sitting.reason }}</span>
      <button type="button" class="quiet" @click="help = !help">{{ texts.sitting.keys }} <kbd>?</kbd></button>
    </div>
    <p v-if="sitting.apart && sitting.state" class="gap" role="status">
      {{ texts.sitting.apart(sitting.state.place.moment) }}
      <button id="take-along" type="button" class="quiet" @click="sitting.go({ ...here.place })">{{ texts.sitting.takeAlong }}</button>
      <button type="button" class="quiet" @click="sitting.setMode('roam')">{{ texts.sitting.lookAlone }}</button>
      <button type="button" class="quiet" @click="sitting.go({ ...sitting.state.place })">{{ texts.sitting.goBack }}</button>
    </p>
    <p v-if="trouble.trouble" class="trouble" role="alert">{{ trouble.trouble }} <button type="button" class="quiet" @click="trouble.trouble = ''">{{ texts.sitting.close }}</button></p>
    <p v-if="loaded.isSnapshot && failure" class="gap why">
      <span class="notch" aria-hidden="true"></span>{{ wrong }}<template v-for="c in (failure.causes ?? []).slice(1)" :key="c.type + c.message">{{ texts.sitting.because(c.type, c.message) }}</template><template v-if="failure.instruction">{{ texts.sitting.by }} <code>{{ failure.instruction }}</code></template>
    </p>
    <p v-for="g in gaps" :key="g.what" class="gap"><b>{{ texts.sitting.missing }}</b> {{ g.what }}. <span class="soft">{{ g.remedy }}.</span></p>
    <KeyHelp v-if="help" />
    <div class="body">
      <SpansPage v-if="page === 'spans'" class="source" />
      <MessagesPage v-else-if="page === 'messages'" class="source" />
      <SourcePage v-else class="source" />
      <div class="side">
        <Descent />
        <ValueTree />
        <WatchedValues />
      </div>
    </div>
    <div class="drawer" :class="{ tall: loaded.isSnapshot || ['why', 'ledger', 'line', 'call', 'story', 'races', 'waits', 'talk', 'notes'].includes(drawer.tab) }">
      <el-tabs v-model="drawer.tab">
        <template v-if="loaded.isSnapshot">
          <el-tab-pane :label="texts.sitting.tabs.threads" name="threads"><ThreadsPanel /></el-tab-pane>
          <el-tab-pane :label="texts.sitting.tabs.waits" name="waits" lazy><WaitsPanel /></el-tab-pane>
          <el-tab-pane v-if="loaded.traits?.memory" :label="texts.sitting.tabs.memory" name="memory" lazy><MemoryPanel /></el-tab-pane>
          <el-tab-pane v-if="loaded.traits?.memory" :label="texts.sitting.tabs.instructions" name="instructions" lazy><InstructionsPanel /></el-tab-pane>
        </template>
        <template v-else>
          <el-tab-pane :label="texts.sitting.tabs.hits" name="hits"><HitsPanel /></el-tab-pane>
          <el-tab-pane :label="texts.sitting.tabs.why" name="why"><OriginPanel /></el-tab-pane>
          <el-tab-pane :label="texts.sitting.tabs.ledger" name="ledger"><LedgerPanel /></el-tab-pane>
          <el-tab-pane :label="texts.sitting.tabs.search" name="search"><SearchPanel /></el-tab-pane>
          <template v-if="loaded.hasLines">
            <el-tab-pane :label="texts.sitting.tabs.line" name="line" lazy><LinePanel /></el-tab-pane>
            <el-tab-pane :label="texts.sitting.tabs.call" name="call" lazy><CallPanel /></el-tab-pane>
            <el-tab-pane :label="texts.sitting.tabs.story" name="story" lazy><StoryPanel /></el-tab-pane>
            <el-tab-pane :label="texts.sitting.tabs.races" name="races" lazy><RacesPanel /></el-tab-pane>
            <el-tab-pane :label="texts.sitting.tabs.waits" name="waits" lazy><WaitsPanel /></el-tab-pane>
          </template>
        </template>
        <el-tab-pane v-if="loaded.traits?.messages && page !== 'messages'" :label="texts.sitting.tabs.messages" name="messages" lazy><MessagesPage /></el-tab-pane>
        <el-tab-pane :label="texts.sitting.tabs.elsewhere" name="elsewhere" lazy><ElsewherePanel /></el-tab-pane>
        <el-tab-pane :label="texts.sitting.tabs.ask" name="ask"><AskPanel /></el-tab-pane>
        <el-tab-pane :label="texts.sitting.tabs.talk" name="talk" lazy><TalkPanel /></el-tab-pane>
        <el-tab-pane :label="texts.sitting.tabs.notes" name="notes" lazy><NotesPanel /></el-tab-pane>
      </el-tabs>
    </div>
  </div>
</template>

<style scoped>
.sitting {
  display: flex;
  flex-direction: column;
  height: 100%;
  min-height: 620px;
}
header {
  display: flex;
  gap: 18px;
  justify-content: space-between;
  align-items: center;
  padding: 6px 14px;
  background: var(--fog-0);
}
.people {
  display: flex;
  gap: 18px;
  align-items: center;
}
.people .quiet {
  border: 1px solid var(--fog-3);
  background: none;
  color: var(--ink-soft);
  font: inherit;
  font-size: 14px;
  padding: 2px 8px;
  white-space: nowrap;
  cursor: pointer;
}
.people .unmasked {
  border-color: var(--wrong);
  color: var(--wrong);
  font-weight: 600;
}
.title {
  display: flex;
  gap: 14px;
  align-items: baseline;
  min-width: 0;
}
h1 {
  margin: 0;
  font-size: 18px;
  white-space: nowrap;
}
.title span {
  white-space: nowrap;
}
.failure {
  min-width: 0;
  overflow: hidden;
  white-space: nowrap;
  text-overflow: ellipsis;
  border: 0;
  background: none;
  color: var(--wrong);
  font: inherit;
  cursor: pointer;
  text-align: left;
}
.notch {
  display: inline-block;
  margin-right: 6px;
  border: 5px solid transparent;
  border-top: 8px solid var(--wrong);
  border-bottom: 0;
}
.steps {
  display: flex;
  flex-wrap: wrap;
  gap: 10px;
  align-items: center;
  padding: 5px 14px;
  background: var(--fog-2);
  border-block: 1px solid var(--fog-3);
}
.group {
  display: inline-flex;
}
.steps button {
  padding: 3px 9px;
  font: inherit;
  font-size: 14px;
  color: var(--ink);
  background: var(--fog-0);
  border: 1px solid var(--fog-3);
  cursor: pointer;
}
.steps button:hover {
  background: var(--fog-1);
}
.group button + button {
  border-left: 0;
}
kbd {
  margin-left: 4px;
  padding: 0 4px;
  font-family: var(--mono);
  font-size: 11px;
  color: var(--ink-soft);
  background: var(--fog-2);
  border-radius: 2px;
}
.moment {
  display: inline-flex;
  gap: 6px;
  align-items: center;
}
.moment .el-input {
  width: 96px;
}
.steps .quiet {
  margin-left: auto;
}
.trouble,
.gap {
  margin: 0;
  padding: 5px 14px;
  background: var(--fog-0);
  border-bottom: 1px solid var(--fog-3);
}
.why {
  border-top: 1px solid var(--fog-3);
}
.body {
  display: flex;
  flex: 1;
  min-height: 0;
}
.source {
  flex: 1.5;
  min-width: 0;
  border-right: 1px solid var(--fog-3);
}
.side {
  flex: 1;
  display: flex;
  flex-direction: column;
  min-width: 340px;
  min-height: 0;
}
.drawer {
  height: 230px;
  padding: 0 14px;
  overflow: auto;
  background: var(--fog-0);
  border-top: 1px solid var(--fog-3);
}
.drawer.tall {
  height: 300px;
}
/* The tabs stay where they are while what is below is turned. */
.drawer :deep(.el-tabs__content) {
  overflow: visible;
}
.drawer :deep(.el-tabs__header) {
  position: sticky;
  z-index: 3;
  top: 0;
  margin-bottom: 6px;
  background: var(--fog-0);
}
</style>
