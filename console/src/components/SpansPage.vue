<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import type { Spans, Traces } from '../api/service'
import { data, duration, service, words } from '../api/service'
import { useEvidence } from '../stores/evidence'
import { useFrame } from '../stores/frame'
import { useSitting } from '../stores/sitting'
import { texts } from '../texts'

const evidence = useEvidence()
const here = useFrame()
const sitting = useSitting()
const router = useRouter()
const list = ref<Spans>()
const parts = ref<Traces['traces']>([])
const trouble = ref('')

function partsOf(id: string) {
  return data(service.GET('/api/cases/{case}/traces/{id}', { params: { path: { case: evidence.path.case, id } } }))
}

/** What other evidence of the case has of a trace. */
async function findParts(id: string) {
  try {
    const found = await partsOf(id)
    parts.value = found.traces.filter((t) => t.evidence !== evidence.path.evidence)
  } catch {
    parts.value = [] // the trace itself is shown all the same
  }
}

/** Goes to the span of a link, or where that is not here to its trace. */
async function follow(link: { traceID: string; spanID: string }) {
  try {
    const found = await partsOf(link.traceID)
    for (const t of found.traces) {
      const path = { case: evidence.path.case, evidence: t.evidence! }
      const there = await data(service.GET('/api/cases/{case}/evidence/{evidence}/trace', { params: { path, query: { id: link.traceID } } }))
      const x = there.spans.find((y) => y.spanID === link.spanID) ?? (t === found.traces[found.traces.length - 1] ? there.spans[0] : undefined)
      if (x) {
        trouble.value = ''
        if (t.evidence === evidence.path.evidence) await sitting.go({ moment: x.moment, thread: x.thread, frame: 0 }, texts.spans.goneToLink)
        else await router.push({ name: 'sitting', params: path, query: { moment: String(x.moment), thread: x.thread } })
        return
      }
    }
  } catch (e) {
    trouble.value = words(e)
  }
}

watch(
  [() => here.place.moment, () => here.place.thread],
  async ([moment, thread]) => {
    const now = list.value?.trace
    if (now && moment >= now.moment && moment <= now.end && list.value!.spans.some((x) => x.thread === thread && moment >= x.moment && moment <= x.end)) return
    try {
      list.value = await data(service.GET('/api/cases/{case}/evidence/{evidence}/trace', { params: { path: evidence.path, query: { moment, thread: thread } } }))
      trouble.value = ''
      void findParts(list.value.trace.traceID)
    } catch (e) {
      list.value = undefined
      trouble.value = words(e)
    }
  },
  { immediate: true },
)

const whole = computed(() => Math.max(list.value?.trace.durationNs ?? 1, 1))

function at(x: Spans['spans'][number]) {
  return { left: `${(100 * x.startNs) / whole.value}%`, width: `${Math.max((100 * x.durationNs) / whole.value, 0.4)}%` }
}

/** The span that the moment lies in: the innermost one on its thread. */
const current = computed(() => {
  const open = list.value?.spans.filter((x) => x.thread === here.place.thread && x.moment <= here.place.moment && here.place.moment <= x.end) ?? []
  return open[open.length - 1]
})

function name(x: Spans['spans'][number]) {
  return x.operation.startsWith(x.service + '/') ? x.operation : `${x.service}/${x.operation}`
}
</script>

<template>
  <div class="spans" :aria-label="texts.spans.title">
    <p v-if="trouble" class="soft">{{ trouble }}</p>
    <template v-if="list">
      <p class="about">
        <b>{{ texts.spans.trace }}</b> <code>{{ list.trace.traceID }}</code>{{ texts.spans.about(duration(list.trace.durationNs), list.trace.spans) }}<span :class="{ wrong: list.trace.status === 'error' }">{{ list.trace.status }}</span>
      </p>
      <p v-if="parts.length" class="about">
        {{ texts.spans.parts }}
        <template v-for="(t, i) in parts" :key="t.evidence"><template v-if="i">, </template><RouterLink :to="{ name: 'sitting', params: { case: evidence.path.case, evidence: t.evidence }, query: { moment: String(t.moment) } }">{{ t.evidence }}</RouterLink> {{ texts.spans.part(t.spans) }}</template>
      </p>
      <div class="row head soft"><span>{{ texts.spans.span }}</span><span></span><span class="number">{{ texts.spans.took }}</span><span class="number" :title="texts.spans.ownHint">{{ texts.spans.own }}</span><span class="number" :title="texts.spans.criticalHint">{{ texts.spans.critical }}</span></div>
      <template v-for="x in list.spans" :key="x.spanID + x.moment">
      <button type="button" class="row" :class="{ current: x === current }" :title="x.statusMessage" @click="sitting.go({ moment: x.moment, thread: x.thread, frame: 0 }, texts.spans.goneTo)">
        <span class="name" :style="{ paddingLeft: `${Math.min(x.depth, 12) * 12}px` }"><span class="notch" :class="{ none: x.status !== 'error' }" aria-hidden="true"></span>{{ name(x) }}<span v-if="x.status === 'error'" class="unseen">{{ texts.spans.error }}</span></span>
        <span class="bar" aria-hidden="true"><i :style="at(x)" :class="{ wrong: x.status === 'error', critical: x.criticalNs > 0 }"></i></span>
        <span class="number">{{ duration(x.durationNs) }}</span>
        <span class="number">{{ duration(x.selfNs) }}</span>
        <span class="number">{{ x.criticalNs ? duration(x.criticalNs) : '' }}</span>
      </button>
      <p v-for="l in x.links" :key="l.traceID + l.spanID" class="links soft" :style="{ paddingLeft: `${31 + Math.min(x.depth, 12) * 12}px` }">
        {{ texts.spans.links }} <button type="button" class="link" @click="follow(l)">{{ texts.spans.link }} <code>{{ l.traceID.slice(0, 16) }}</code></button>
      </p>
      </template>
      <p v-if="list.spans.length < list.trace.spans" class="soft">{{ texts.spans.more(list.trace.spans - list.spans.length) }}</p>
    </template>
  </div>
</template>

<style scoped>
.spans {
  overflow: auto;
  background: var(--fog-0);
}
.about {
  margin: 0;
  padding: 8px 14px;
}
.row {
  display: grid;
  grid-template-columns: minmax(150px, 1.2fr) 2fr 74px 74px 74px;
  gap: 10px;
  align-items: center;
  box-sizing: border-box;
  width: 100%;
  padding: 3px 14px;
  border: 0;
  border-left: 4px solid transparent;
  background: none;
  color: var(--ink);
  font: inherit;
  font-size: 14px;
  text-align: left;
}
button.row {
  cursor: pointer;
}
button.row:hover {
  background: var(--fog-1);
}
.links {
  margin: 0;
  padding: 0 14px 3px;
  font-size: 13px;
}
.current {
  border-left-color: var(--now);
  background: var(--now-wash);
}
.name {
  overflow: hidden;
  white-space: nowrap;
  text-overflow: ellipsis;
}
.bar {
  position: relative;
  height: 12px;
  background: var(--fog-1);
}
.bar i {
  position: absolute;
  top: 2px;
  height: 8px;
  background: hsl(var(--lane) 72%);
}
.bar i.critical {
  background: hsl(var(--lane) 45%);
}
.bar i.wrong {
  background: var(--wrong);
}
.wrong {
  color: var(--wrong);
}
.number {
  text-align: right;
  white-space: nowrap;
}
.notch {
  display: inline-block;
  margin-right: 5px;
  border: 4px solid transparent;
  border-top: 7px solid var(--wrong);
  border-bottom: 0;
}
.none {
  visibility: hidden;
}
.unseen {
  position: absolute;
  clip-path: inset(50%);
}
</style>
