<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import type { Spans } from '../api/service'
import { data, duration, service, words } from '../api/service'
import { useSitting } from '../stores/sitting'

const s = useSitting()
const list = ref<Spans>()
const trouble = ref('')

watch(
  () => s.place.moment,
  async (moment) => {
    const now = list.value?.trace
    if (now && moment >= now.moment && moment <= now.end && list.value!.spans.some((x) => x.thread === s.place.thread && moment >= x.moment && moment <= x.end)) return
    try {
      list.value = await data(service.GET('/api/cases/{case}/evidence/{evidence}/trace', { params: { path: s.path, query: { moment, thread: Number(s.place.thread) } } }))
      trouble.value = ''
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
const here = computed(() => {
  const open = list.value?.spans.filter((x) => x.thread === s.place.thread && x.moment <= s.place.moment && s.place.moment <= x.end) ?? []
  return open[open.length - 1]
})

function name(x: Spans['spans'][number]) {
  return x.operation.startsWith(x.service + '/') ? x.operation : `${x.service}/${x.operation}`
}
</script>

<template>
  <div class="spans" aria-label="Spans of the trace">
    <p v-if="trouble" class="soft">{{ trouble }}</p>
    <template v-if="list">
      <p class="about">
        <b>Trace</b> <code>{{ list.trace.traceID }}</code>, {{ duration(list.trace.durationNs) }}, {{ list.trace.spans.toLocaleString() }} {{ list.trace.spans === 1 ? 'span' : 'spans' }}, <span :class="{ wrong: list.trace.status === 'error' }">{{ list.trace.status }}</span>
      </p>
      <div class="row head soft"><span>span</span><span></span><span class="number">took</span><span class="number" title="time in which no child ran">own</span><span class="number" title="its share in the critical path">critical</span></div>
      <button v-for="x in list.spans" :key="x.spanID + x.moment" type="button" class="row" :class="{ here: x === here }" :title="x.statusMessage" @click="s.go({ moment: x.moment, thread: x.thread, frame: 0 }, 'span')">
        <span class="name" :style="{ paddingLeft: `${Math.min(x.depth, 12) * 12}px` }"><span v-if="x.status === 'error'" class="notch" aria-hidden="true"></span>{{ name(x) }}<span v-if="x.status === 'error'" class="unseen">, error</span></span>
        <span class="bar" aria-hidden="true"><i :style="at(x)" :class="{ wrong: x.status === 'error', critical: x.criticalNs > 0 }"></i></span>
        <span class="number">{{ duration(x.durationNs) }}</span>
        <span class="number">{{ duration(x.selfNs) }}</span>
        <span class="number">{{ x.criticalNs ? duration(x.criticalNs) : '' }}</span>
      </button>
      <p v-if="list.spans.length < list.trace.spans" class="soft">{{ (list.trace.spans - list.spans.length).toLocaleString() }} more spans</p>
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
.here {
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
.unseen {
  position: absolute;
  clip-path: inset(50%);
}
</style>
