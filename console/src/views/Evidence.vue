<script setup lang="ts">
import { useIntervalFn } from '@vueuse/core'
import { computed, onMounted, ref } from 'vue'
import type { Alike, Artifact, Case, Deleted, Evidence, Sender } from '../api/service'
import { data, service, words } from '../api/service'
import { upload } from '../api/upload'
import { usePages } from '../pages'
import { useSession } from '../stores/session'
import { texts } from '../texts'

const props = defineProps<{ case: string }>()
const session = useSession()
const origin = window.location.origin
const about = ref<Case>()
const path = { case: props.case }
const evidence = usePages((query) => data(service.GET('/api/cases/{case}/evidence', { params: { path, query } })), (e: Evidence) => e.name)
const artifacts = usePages((query) => data(service.GET('/api/cases/{case}/artifacts', { params: { path, query } })), (a: Artifact) => a.name)
const list = evidence.list
const trouble = ref('')
const sending = ref<{ name: string; share: number }>()

async function load() {
  try {
    about.value ??= await data(service.GET('/api/cases/{case}', { params: { path } }))
    await evidence.load()
    await artifacts.load()
    deleted.value = await data(service.GET('/api/cases/{case}/deleted', { params: { path } }))
  } catch (e) {
    trouble.value = words(e)
    pause()
  }
}

const { pause, resume } = useIntervalFn(() => {
  if (list.value?.some((e) => e.state === 'indexing')) void load()
}, 500)

const mayAdd = computed(() => about.value && about.value.role !== 'viewer')

const pasted = ref('')
const pastedName = ref('')
const sender = ref<Sender>()

/** Keeps a text that was pasted, as a file of its own. */
function paste() {
  const name = pastedName.value.trim() || `crash-${new Date().toISOString().slice(0, 19).replace(/[^0-9]/g, '')}`
  void keep('evidence', name.replace(/[^A-Za-z0-9._-]+/g, '-'), new Blob([pasted.value]))
  pasted.value = ''
  pastedName.value = ''
}

const deleted = ref<Deleted[]>([])
/** The evidence whose deletion is to be confirmed. */
const doomed = ref('')
const mayDelete = (e: Evidence) => about.value?.role === 'lead' || (mayAdd.value && e.by === session.name)

/** Does something with evidence, or an artifact, and shows what there is then. */
async function and(what: () => Promise<unknown>, thenLoads = true) {
  trouble.value = doomed.value = ''
  try {
    await what()
    if (thenLoads) await load()
    resume()
  } catch (e) {
    trouble.value = words(e)
  }
}

const drop = (evidence: string) => and(() => data(service.DELETE('/api/cases/{case}/evidence/{evidence}', { params: { path: { case: props.case, evidence } } })))

const restore = (x: Deleted) =>
  and(() =>
    x.kind === 'evidence'
      ? data(service.POST('/api/cases/{case}/evidence/{evidence}/restore', { params: { path: { case: props.case, evidence: x.name } } }))
      : data(service.POST('/api/cases/{case}/artifacts/{artifact}/restore', { params: { path: { case: props.case, artifact: x.name } } })),
  )

const again = (evidence: string) => and(() => data(service.POST('/api/cases/{case}/evidence/{evidence}/index', { params: { path: { case: props.case, evidence } } })))

async function makeSender() {
  try {
    sender.value = await data(service.POST('/api/cases/{case}/senders', { params: { path: { case: props.case } }, body: { label: texts.evidence.senderLabel(session.name) } }))
  } catch (e) {
    trouble.value = words(e)
  }
}

function send(as: 'evidence' | 'artifact', files: FileList | null) {
  const f = files?.[0]
  if (f) void keep(as, (as === 'evidence' ? f.name.replace(/\.[^.]*$/, '') : f.name).replace(/[^A-Za-z0-9._-]+/g, '-'), f)
}

/** Sends a file in parts. */
async function keep(as: 'evidence' | 'artifact', name: string, file: Blob) {
  trouble.value = ''
  sending.value = { name, share: 0 }
  try {
    await upload({ caseName: props.case, kind: as, name, file, sent: (share) => (sending.value = { name, share }) })
  } catch (e) {
    trouble.value = words(e)
  }
  sending.value = undefined
  await load()
  resume()
}

function bytes(n: number) {
  return n < 1e6 ? `${(n / 1e3).toFixed(1)} kB` : `${(n / 1e6).toFixed(1)} MB`
}

onMounted(load)
/** Evidence with the same failure, or a similar one, by the name of the evidence that was asked for. */
const alike = ref(new Map<string, Alike[]>())

async function findAlike(evidence: string) {
  trouble.value = ''
  try {
    const found = await data(service.GET('/api/cases/{case}/evidence/{evidence}/alike', { params: { path: { case: props.case, evidence } } }))
    alike.value = new Map(alike.value).set(evidence, found)
  } catch (e) {
    trouble.value = words(e)
  }
}
</script>

<template>
  <section class="sheet">
    <h1>{{ about?.title ?? props.case }}</h1>
    <p v-if="about" class="soft">{{ texts.cases.members(about.members, 50) }}</p>
    <p v-if="trouble" role="alert" class="trouble">{{ trouble }}</p>
    <form v-if="evidence.text.value || list?.length" id="find-evidence" class="find" @submit.prevent="and(evidence.find, false)">
      <el-input v-model="evidence.text.value" :aria-label="texts.evidence.find" :placeholder="texts.evidence.findHint" clearable />
      <el-button native-type="submit">{{ texts.evidence.find }}</el-button>
    </form>
    <p v-if="list && !list.length && evidence.text.value">{{ texts.evidence.notFound }}</p>
    <p v-else-if="list && !list.length">
      {{ texts.evidence.noneRecord }} <code>{{ texts.evidence.record }}</code> {{ mayAdd ? texts.evidence.noneAdd : texts.evidence.noneViewer }}
    </p>
    <table v-if="list?.length">
      <thead>
        <tr><th>{{ texts.evidence.name }}</th><th>{{ texts.evidence.program }}</th><th>{{ texts.evidence.outcome }}</th><th>{{ texts.evidence.moments }}</th><th>{{ texts.evidence.size }}</th><th>{{ texts.evidence.ran }}</th><th>{{ texts.evidence.host }}</th></tr>
      </thead>
      <tbody>
        <tr v-for="e in list" :key="e.name">
          <td>
            <RouterLink v-if="e.state === 'ready' && e.moments" :to="{ name: 'sitting', params: { case: props.case, evidence: e.name } }">{{ e.name }}</RouterLink>
            <b v-else>{{ e.name }}</b>
            <div class="soft">{{ texts.evidence.by(e.by, e.uploaded) }}</div>
            <button v-if="mayDelete(e) && doomed !== e.name" type="button" class="plain" :aria-label="texts.evidence.deleteOf(e.name)" @click="doomed = e.name">{{ texts.evidence.delete }}</button>
            <div v-if="doomed === e.name" class="doomed">
              {{ texts.evidence.sure }}
              <button type="button" class="plain wrong" :aria-label="texts.evidence.deleteYes(e.name)" @click="drop(e.name)">{{ texts.evidence.yes }}</button>
              <button type="button" class="plain" @click="doomed = ''">{{ texts.evidence.keep }}</button>
            </div>
          </td>
          <td>{{ e.program }}<div class="mono soft" :title="e.buildID">{{ e.buildID.slice(0, 12) }}</div></td>
          <td>
            <el-progress v-if="e.state === 'indexing'" :percentage="Math.round(e.progress * 100)" :aria-label="texts.evidence.indexing(e.name)" />
            <span v-else :class="{ wrong: e.state === 'failed' || !e.outcome.startsWith('ended without') }">{{ e.state === 'failed' ? e.trouble : e.outcome }}</span>
            <div v-if="e.state !== 'ready'">
              <span v-if="e.state === 'indexing' && e.trouble" class="wrong">{{ texts.evidence.triedAgain }} {{ e.trouble }}</span>
              <button v-if="mayAdd && e.trouble" type="button" class="plain" @click="again(e.name)">{{ texts.evidence.again }}</button>
            </div>
            <div v-if="e.broken"><RouterLink class="broken" :to="{ name: 'expectations', params: { case: props.case } }">{{ texts.evidence.broken(e.broken, !!e.again) }}</RouterLink></div>
            <div v-for="k in e.known ?? []" :key="k.case + k.checkpoint + k.that" class="known">
              <RouterLink class="broken" :to="{ name: 'expectations', params: { case: k.case } }">{{ texts.evidence.known(k.case, k.title) }}</RouterLink>
              <div><code>{{ k.that }}</code></div>
              <div class="soft">{{ texts.evidence.knownHits(k.breaks, k.hits, k.checkpoint) }}</div>
              <div v-if="k.cause">{{ texts.evidence.knownCause }} <b>{{ k.cause }}</b></div>
            </div>
            <div v-if="e.fingerprint">
              <button type="button" class="plain" @click="findAlike(e.name)">{{ texts.evidence.seenBefore }}</button>
              <ul v-if="alike.get(e.name)" class="alike">
                <li v-for="x in alike.get(e.name)" :key="`${x.case}/${x.evidence.name}`">
                  <RouterLink :to="{ name: 'sitting', params: { case: x.case, evidence: x.evidence.name } }">{{ x.evidence.name }}</RouterLink> <span class="soft">{{ texts.evidence.alike(x) }}</span>
                  <b v-if="x.cause"> {{ x.cause }}</b>
                </li>
                <li v-if="!alike.get(e.name)!.length" class="soft">{{ texts.evidence.notSeen }}</li>
              </ul>
            </div>
            <div v-if="e.gaps" class="soft">{{ texts.evidence.gaps(e.gaps) }}</div>
          </td>
          <td class="number">{{ e.moments.toLocaleString() }}</td>
          <td class="number">{{ bytes(e.bytes) }}</td>
          <td>{{ e.state === 'ready' && new Date(e.started).getFullYear() > 1970 ? new Date(e.started).toLocaleString() : '' }}</td>
          <td>{{ e.host }}</td>
        </tr>
      </tbody>
    </table>
    <p v-if="evidence.mayBeMore.value"><el-button @click="and(evidence.more, false)">{{ texts.evidence.older }}</el-button></p>
    <div v-if="mayAdd" class="add">
      <label for="file">{{ texts.evidence.add }}</label>
      <input id="file" type="file" @change="send('evidence', ($event.target as HTMLInputElement).files)" />
      <el-progress v-if="sending" :percentage="Math.round(sending.share * 100)" :aria-label="texts.evidence.upload(sending.name)" />
    </div>
    <form v-if="mayAdd" class="paste" @submit.prevent="paste">
      <label for="pasted">{{ texts.evidence.paste }}</label>
      <textarea id="pasted" v-model="pasted" rows="3" spellcheck="false" :placeholder="texts.evidence.pasteHint"></textarea>
      <el-input v-model="pastedName" :aria-label="texts.evidence.pasteName" :placeholder="texts.evidence.pasteNameHint" />
      <el-button native-type="submit" :disabled="!pasted.trim()">{{ texts.evidence.pasteAdd }}</el-button>
    </form>
    <div v-if="mayAdd" class="add">
      <span>{{ texts.evidence.senders }}</span>
      <el-button @click="makeSender">{{ texts.evidence.makeSender }}</el-button>
    </div>
    <p v-if="sender" class="sender" role="status">
      {{ texts.evidence.shownOnce }} <code>{{ sender.secret }}</code><br />
      {{ texts.evidence.sdk }} <code>{{ texts.evidence.endpoint(origin) }}</code> <code>{{ texts.evidence.headers(sender.secret) }}</code>
    </p>
    <section v-if="deleted.length" class="deleted">
      <h2>{{ texts.evidence.deleted }}</h2>
      <ul>
        <li v-for="x in deleted" :key="x.kind + x.name + x.at">
          {{ x.name }} <span class="soft">{{ texts.evidence.deletedBy(x.by, x.at) }}</span>
          <button v-if="mayAdd" type="button" class="plain" :aria-label="texts.evidence.restoreOf(x.name)" @click="restore(x)">{{ texts.evidence.restore }}</button>
        </li>
      </ul>
    </section>
    <template v-if="artifacts.list.value?.length || list?.some((e) => e.explained)">
      <h2>{{ texts.evidence.artifacts }}</h2>
      <p v-if="!artifacts.list.value?.length">{{ texts.evidence.artifactsNone }}</p>
      <table v-else class="artifacts">
        <thead>
          <tr><th>{{ texts.evidence.artifact }}</th><th>{{ texts.evidence.kind }}</th><th>{{ texts.evidence.buildID }}</th><th>{{ texts.evidence.size }}</th></tr>
        </thead>
        <tbody>
          <tr v-for="a in artifacts.list.value" :key="a.name">
            <td>{{ a.name }}<div class="soft">{{ texts.evidence.by(a.by, a.uploaded) }}</div></td>
            <td>{{ a.kind.replace('-', ' ') }}</td>
            <td class="mono">{{ a.buildID }}</td>
            <td class="number">{{ bytes(a.bytes) }}</td>
          </tr>
        </tbody>
      </table>
      <p v-if="artifacts.mayBeMore.value"><el-button @click="and(artifacts.more, false)">{{ texts.evidence.older }}</el-button></p>
      <div v-if="mayAdd" class="add">
        <label for="artifact">{{ texts.evidence.addArtifact }}</label>
        <input id="artifact" type="file" @change="send('artifact', ($event.target as HTMLInputElement).files)" />
        <span class="soft">{{ texts.evidence.artifactHint }}</span>
      </div>
    </template>
  </section>
</template>

<style scoped>
.find {
  display: flex;
  gap: 14px;
  margin-bottom: 12px;
}
.find .el-input {
  width: 360px;
}
.sheet {
  padding: 18px 28px;
}
h2 {
  margin: 30px 0 10px;
  font-size: 17px;
}
table {
  width: 100%;
  border-collapse: collapse;
  background: var(--fog-0);
}
th {
  text-align: left;
  font-weight: 600;
  color: var(--ink-soft);
  border-bottom: 2px solid var(--fog-3);
}
td {
  vertical-align: top;
  border-bottom: 1px solid var(--fog-3);
}
th,
td {
  padding: 9px 12px;
}
td a {
  font-weight: 600;
  font-size: 16px;
}
.plain {
  padding: 0;
  font: inherit;
  font-size: 14px;
  color: var(--now-text);
  background: none;
  border: 0;
  cursor: pointer;
}
.alike {
  margin: 0;
  padding-left: 18px;
}
td a.broken {
  font-size: inherit;
  color: var(--wrong);
}
.number {
  text-align: right;
  white-space: nowrap;
}
.wrong {
  color: var(--wrong);
}
.doomed {
  display: flex;
  gap: 8px;
}
.deleted ul {
  margin: 0;
  padding: 0;
  list-style: none;
}
.deleted li {
  display: flex;
  gap: 8px;
  align-items: baseline;
}
.add {
  margin-top: 22px;
  display: flex;
  gap: 14px;
  align-items: center;
}
.paste {
  display: grid;
  grid-template-columns: auto 1fr 200px auto;
  gap: 14px;
  align-items: start;
  margin-top: 18px;
}
.paste textarea {
  font-family: var(--mono);
  font-size: 12.5px;
  color: var(--ink);
  background: var(--fog-0);
  border: 1px solid var(--fog-3);
  border-radius: 3px;
  padding: 6px 8px;
}
.sender code {
  overflow-wrap: anywhere;
}
.add .el-progress {
  width: 260px;
}
</style>
