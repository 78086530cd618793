<script setup lang="ts">
import { useIntervalFn } from '@vueuse/core'
import { computed, onMounted, ref } from 'vue'
import type { Case, CheckedIn, Checks } from '../api/service'
import { data, service, words } from '../api/service'
import { texts } from '../texts'

const props = defineProps<{ case: string }>()
const about = ref<Case>()
const checks = ref<Checks>()
const trouble = ref('')
const kind = ref<'return' | 'enter' | 'line'>('return')
const place = ref('')
const when = ref('')
const that = ref('')
const note = ref('')
const cause = ref('')
const path = { case: props.case }

const mayWork = computed(() => about.value && about.value.role !== 'viewer')
/** Evidence of the case, and that of other cases which is of the same program. */
const columns = computed(() => [...(checks.value?.evidence ?? []), ...(checks.value?.elsewhere ?? [])])
/** What is still being checked is asked for again. */
const isOpen = computed(() => checks.value?.evidence.some((e) => e.state === 'indexing' || (e.state === 'ready' && (e.checks.includes(null as never) || e.counts.includes(null as never)))))

async function tried(deed: () => Promise<unknown>) {
  trouble.value = ''
  try {
    await deed()
    about.value = await data(service.GET('/api/cases/{case}', { params: { path } }))
    checks.value = await data(service.GET('/api/cases/{case}/checks', { params: { path } }))
  } catch (e) {
    trouble.value = words(e)
  }
}

const { pause } = useIntervalFn(async () => {
  if (!isOpen.value) return
  try {
    checks.value = await data(service.GET('/api/cases/{case}/checks', { params: { path } }))
  } catch (e) {
    trouble.value = words(e)
    pause()
  }
}, 700)

function add() {
  void tried(async () => {
    const body = { checkpoint: `${kind.value} ${place.value.trim()}`, when: when.value.trim(), that: that.value.trim(), note: note.value.trim() }
    await data(service.POST('/api/cases/{case}/expectations', { params: { path }, body }))
    place.value = when.value = that.value = note.value = ''
  })
}

function remove(expectation: number) {
  void tried(() => data(service.DELETE('/api/cases/{case}/expectations/{expectation}', { params: { path: { ...path, expectation } } })))
}

function close() {
  void tried(async () => {
    await data(service.POST('/api/cases/{case}/close', { params: { path }, body: { cause: cause.value.trim() } }))
    cause.value = ''
  })
}

function reopen() {
  void tried(() => data(service.POST('/api/cases/{case}/reopen', { params: { path } })))
}

/** How an expectation did in a piece of evidence: a word for the mark, and the counts. */
function verdict(e: CheckedIn, i: number) {
  const c = e.checks[i]
  if (!c) return e.state === 'ready' ? 'open' : 'none'
  if (c.breaks) return 'breaks'
  if (c.unknown) return 'unknown'
  return c.holds ? 'holds' : 'missed'
}

onMounted(() => tried(async () => undefined))
</script>

<template>
  <section class="sheet">
    <h1>{{ texts.expectations.title }}</h1>
    <p class="soft">{{ about?.title }}</p>
    <p v-if="trouble" role="alert" class="trouble">{{ trouble }}</p>
    <p v-if="about?.closed" class="closed" role="status">
      {{ texts.expectations.closed(about.closed, about.closedBy ?? '') }} <b>{{ about.cause }}</b>
      <el-button v-if="mayWork" size="small" @click="reopen">{{ texts.expectations.reopen }}</el-button>
    </p>
    <p v-if="checks && !checks.expectations.length">{{ texts.expectations.none }}</p>
    <div v-if="checks && (checks.expectations.length || checks.checkpoints.length)" class="wide">
      <table>
        <thead>
          <tr>
            <th scope="col">{{ texts.expectations.what }}</th>
            <th v-for="e in columns" :key="`${e.case}/${e.name}`" scope="col">
              <RouterLink v-if="e.state === 'ready'" :to="{ name: 'sitting', params: { case: e.case ?? props.case, evidence: e.name } }">{{ e.name }}</RouterLink>
              <span v-else>{{ e.name }}</span>
              <div v-if="e.case" class="soft">{{ texts.expectations.ofCase(e.case) }}</div>
              <div class="soft outcome" :title="e.outcome">{{ e.outcome }}</div>
              <div v-if="e.again" class="again">{{ texts.expectations.again }}</div>
            </th>
            <th v-if="mayWork" scope="col"><span class="hidden">{{ texts.expectations.delete }}</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(x, i) in checks.expectations" :key="x.id">
            <th scope="row">
              <code>{{ x.that }}</code>
              <div class="soft">{{ texts.expectations.at(x.checkpoint, x.when ?? '') }}</div>
              <div v-if="x.text" class="soft mono">{{ x.text }}</div>
              <div v-if="x.note" class="soft">{{ x.note }}</div>
            </th>
            <td v-for="e in columns" :key="`${e.case}/${e.name}`" :class="verdict(e, i)" :title="e.checks[i]?.trouble">
              <b>{{ texts.expectations.verdicts[verdict(e, i)] }}</b>
              <template v-if="e.checks[i]">
                <div v-if="e.checks[i].holds + e.checks[i].breaks + e.checks[i].unknown" class="soft">{{ texts.expectations.counts(e.checks[i]) }}</div>
                <template v-if="e.checks[i].first">
                  <RouterLink :to="{ name: 'sitting', params: { case: e.case ?? props.case, evidence: e.name }, query: { moment: String(e.checks[i].first!.moment), thread: e.checks[i].first!.thread } }">{{ texts.expectations.first(e.checks[i].first!.moment) }}</RouterLink>
                  <div v-for="s in e.checks[i].shown ?? []" :key="s.expression" class="mono">{{ s.expression }} = {{ s.value }}</div>
                </template>
              </template>
            </td>
            <td v-if="mayWork"><button type="button" class="plain" :aria-label="texts.expectations.deleteOf(x.id)" @click="remove(x.id)">{{ texts.expectations.delete }}</button></td>
          </tr>
          <tr v-for="(x, i) in checks.checkpoints" :key="`c${x.id}`" class="counted">
            <th scope="row">
              <code>{{ x.label }}</code>
              <div class="soft">{{ texts.expectations.checkpoint(x.when) }}</div>
            </th>
            <td v-for="e in columns" :key="`${e.case}/${e.name}`" :title="e.counts[i]?.trouble">{{ e.counts[i] ? texts.expectations.hits(e.counts[i].hits) : '' }}</td>
            <td v-if="mayWork"></td>
          </tr>
        </tbody>
      </table>
    </div>
    <form v-if="mayWork" class="add" @submit.prevent="add">
      <h2>{{ texts.expectations.add }}</h2>
      <select v-model="kind" :aria-label="texts.expectations.kind">
        <option v-for="(word, k) in texts.expectations.kinds" :key="k" :value="k">{{ word }}</option>
      </select>
      <el-input v-model="place" :aria-label="texts.expectations.place" :placeholder="kind === 'line' ? texts.expectations.lineHint : texts.expectations.functionHint" />
      <el-input v-model="that" :aria-label="texts.expectations.that" :placeholder="texts.expectations.thatHint" />
      <el-input v-model="when" :aria-label="texts.expectations.when" :placeholder="texts.expectations.whenHint" />
      <el-input v-model="note" :aria-label="texts.expectations.note" :placeholder="texts.expectations.noteHint" />
      <el-button native-type="submit" type="primary" :disabled="!place.trim() || !that.trim()">{{ texts.expectations.submit }}</el-button>
    </form>
    <form v-if="mayWork && !about?.closed" class="close" @submit.prevent="close">
      <h2>{{ texts.expectations.close }}</h2>
      <el-input v-model="cause" :aria-label="texts.expectations.cause" :placeholder="texts.expectations.causeHint" />
      <el-button native-type="submit" :disabled="!cause.trim()">{{ texts.expectations.closeIt }}</el-button>
    </form>
  </section>
</template>

<style scoped>
.sheet {
  padding: 18px 28px;
}
h2 {
  font-size: 17px;
  margin: 0;
  grid-column: 1 / -1;
}
.wide {
  overflow-x: auto;
}
table {
  border-collapse: collapse;
  background: var(--fog-0);
  min-width: 100%;
}
th,
td {
  text-align: left;
  vertical-align: top;
  font-weight: 400;
  padding: 9px 14px;
  border-bottom: 1px solid var(--fog-3);
}
thead th {
  border-bottom: 2px solid var(--fog-3);
  font-weight: 600;
}
tbody th {
  max-width: 420px;
}
.outcome {
  max-width: 230px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
  font-weight: 400;
}
.breaks b,
.again,
.trouble {
  color: var(--wrong);
}
.breaks {
  border-left: 4px solid var(--wrong);
}
.holds {
  border-left: 4px solid var(--now);
}
.unknown,
.missed,
.open {
  border-left: 4px dotted var(--fog-3);
}
.counted {
  background: var(--fog-1);
}
.mono {
  overflow-wrap: anywhere;
}
.closed {
  display: flex;
  gap: 12px;
  align-items: baseline;
  padding: 10px 14px;
  background: var(--fog-0);
  border-left: 4px solid var(--now);
}
.add,
.close {
  display: grid;
  grid-template-columns: auto 1.2fr 1.4fr 1.2fr 1.2fr auto;
  gap: 12px;
  align-items: center;
  margin-top: 28px;
}
.close {
  grid-template-columns: 1fr auto;
  max-width: 760px;
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
</style>
