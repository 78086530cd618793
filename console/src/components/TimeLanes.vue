<script setup lang="ts">
import { useDark, useDebounceFn, useResizeObserver } from '@vueuse/core'
import { computed, nextTick, onMounted, ref, watch } from 'vue'
import { personColour, personLetter } from '../source/people'
import { useCheckpoints } from '../stores/checkpoints'
import { useEvidence } from '../stores/evidence'
import { useFrame } from '../stores/frame'
import { useKept } from '../stores/kept'
import { useSitting } from '../stores/sitting'
import { useTrouble } from '../stores/trouble'
import { texts } from '../texts'

const checkpoints = useCheckpoints()
const evidence = useEvidence()
const here = useFrame()
const kept = useKept()
const sitting = useSitting()
const trouble = useTrouble()
const dark = useDark()
const canvas = ref<HTMLCanvasElement>()
const box = ref<HTMLDivElement>()
const width = ref(800)

const laneHeight = 34
const marks = 16 // room above the lanes for teammates and errors
const names = 108 // room at the left for the threads' names
const shown = computed(() => (evidence.lanes?.lanes ?? []).slice(0, 4))
const height = computed(() => marks + Math.max(shown.value.length, 1) * laneHeight + 14)

function x(moment: number) {
  const l = evidence.lanes!
  return names + ((moment - l.from) / Math.max(l.to - l.from, 1)) * (width.value - names - 8)
}

function momentAt(px: number) {
  const l = evidence.lanes!
  const share = Math.min(Math.max((px - names) / (width.value - names - 8), 0), 1)
  return Math.min(Math.round(l.from + share * (l.to - l.from)), evidence.moments - 1)
}

function draw() {
  const c = canvas.value
  if (!c || !evidence.lanes) return
  const scale = window.devicePixelRatio || 1
  c.width = width.value * scale
  c.height = height.value * scale
  const g = c.getContext('2d')!
  g.scale(scale, scale)
  const css = getComputedStyle(document.documentElement)
  const colour = (name: string) => css.getPropertyValue(name).trim()
  g.font = '12px "Source Sans 3", sans-serif'
  shown.value.forEach((lane, row) => {
    const base = marks + (row + 1) * laneHeight - 3
    g.fillStyle = colour('--ink-soft')
    g.fillText(lane.name.length > 17 ? lane.name.slice(0, 16) + '…' : lane.name, 8, base - 10)
    const most = Math.max(...lane.counts, 1)
    const deepest = Math.max(...lane.depths, 1)
    const w = (width.value - names - 8) / lane.counts.length
    lane.counts.forEach((n, i) => {
      if (!n) return
      const h = 4 + (laneHeight - 12) * (n / most)
      const light = dark.value ? 30 + 32 * (lane.depths[i] / deepest) : 80 - 40 * (lane.depths[i] / deepest)
      g.fillStyle = `hsl(198 20% ${light}%)`
      const left = Math.floor(names + i * w)
      g.fillRect(left, base - h, Math.ceil(names + (i + 1) * w) - left, h)
    })
    g.fillStyle = colour('--fog-3')
    g.fillRect(names, base, width.value - names - 8, 1)
  })
  const bottom = marks + shown.value.length * laneHeight
  const inside = (m: number) => m >= evidence.lanes!.from && m <= evidence.lanes!.to
  g.strokeStyle = g.fillStyle = colour('--mark')
  const most = Math.max(...checkpoints.density, 1)
  checkpoints.density.forEach((n, i) => {
    const from = (i * evidence.moments) / checkpoints.density.length
    const to = ((i + 1) * evidence.moments) / checkpoints.density.length
    if (!n || to < evidence.lanes!.from || from > evidence.lanes!.to) return
    const left = Math.max(x(from), names)
    const h = 2 + 9 * (n / most)
    g.fillRect(left, bottom + 12 - h, Math.max(Math.min(x(to), width.value - 8) - left, 1), h)
  })
  for (const h of checkpoints.density.length ? [] : (checkpoints.hits?.hits ?? [])) {
    if (!inside(h.moment)) continue
    const at = x(h.moment)
    g.beginPath()
    g.moveTo(at, bottom + 2)
    g.lineTo(at + 5, bottom + 5)
    g.lineTo(at, bottom + 8)
    g.fill()
    g.fillRect(at - 0.5, bottom, 1, 12)
  }
  const f = evidence.peek?.failure
  if (f && inside(f.moment)) {
    const at = x(f.moment)
    g.fillStyle = colour('--wrong')
    g.beginPath()
    g.moveTo(at - 5, marks)
    g.lineTo(at + 5, marks)
    g.lineTo(at, marks + 9)
    g.fill()
    g.fillRect(at - 0.5, marks, 1, bottom - marks)
  }
  // What is kept: a hollow square for an exhibit; for a comment two short lines, in the colour of its person.
  for (const e of kept.exhibits) {
    if (e.evidence !== evidence.name || !inside(e.place.moment)) continue
    g.strokeStyle = colour('--mark')
    g.lineWidth = 2
    g.strokeRect(x(e.place.moment) - 4, marks - 11, 8, 8)
  }
  for (const c of kept.comments) {
    const moment = c.anchor.moment
    if (c.deleted || c.anchor.evidence !== evidence.name || moment === undefined || !inside(moment)) continue
    const from = x(moment)
    const to = Math.max(from + 9, x(Math.min(c.anchor.until ?? moment, evidence.lanes!.to)))
    g.fillStyle = personColour(c.by)
    g.fillRect(from, bottom + 1, to - from, 2)
    g.fillRect(from, bottom + 5, (to - from) * 0.6, 2)
  }
  for (const p of sitting.state?.here ?? []) {
    if (p.name === sitting.me || !inside(p.place.moment)) continue
    const at = x(p.place.moment)
    g.fillStyle = personColour(p.name)
    g.fillRect(at - 6, 1, 13, 13)
    g.fillRect(at - 0.5, 14, 1, bottom - 14)
    g.fillStyle = '#fff'
    g.fillText(personLetter(p.name), at - 3, 12)
  }
  if (inside(here.place.moment)) {
    const at = x(here.place.moment)
    g.fillStyle = colour('--now')
    g.fillRect(at - 1.5, marks - 2, 3, bottom - marks + 8)
  }
}

const reload = useDebounceFn((from: number, to: number) => trouble.attempt(() => evidence.loadLanes(from, to)), 80)

function zoom(e: WheelEvent) {
  const l = evidence.lanes
  if (!l) return
  const at = momentAt(e.offsetX)
  const factor = e.deltaY > 0 ? 1.6 : 1 / 1.6
  const span = Math.min(Math.max((l.to - l.from) * factor, 40), evidence.moments)
  let from = Math.round(at - (at - l.from) * (span / (l.to - l.from)))
  from = Math.min(Math.max(from, 0), evidence.moments - span)
  void reload(Math.round(from), Math.round(from + span))
}

let dragging = false
const slide = useDebounceFn((m: number) => sitting.goTo(m), 60)

function down(e: PointerEvent) {
  if (!evidence.lanes || e.offsetX < names) return
  dragging = true
  canvas.value?.setPointerCapture(e.pointerId)
  void slide(momentAt(e.offsetX))
}

function drag(e: PointerEvent) {
  if (dragging) void slide(momentAt(e.offsetX))
}

useResizeObserver(box, ([entry]) => {
  width.value = Math.max(entry.contentRect.width, 320)
})
onMounted(draw)
watch([() => evidence.lanes, () => here.place, () => checkpoints.hits, () => checkpoints.density, () => sitting.state, () => evidence.peek, () => kept.exhibits, () => kept.comments, width, dark], () => nextTick(draw))

const spoken = computed(() => texts.lanes.spoken(shown.value.length, here.place.moment, evidence.moments))
const hidden = computed(() => (evidence.lanes?.lanes.length ?? 0) - shown.value.length)
</script>

<template>
  <div ref="box" class="lanes">
    <canvas
      ref="canvas"
      role="img"
      :aria-label="spoken"
      :style="{ width: width + 'px', height: height + 'px' }"
      @wheel.prevent="zoom"
      @pointerdown="down"
      @pointermove="drag"
      @pointerup="dragging = false"
    ></canvas>
    <span class="scale soft">
      <template v-if="evidence.lanes">{{ texts.lanes.range(evidence.lanes.from, evidence.lanes.to - 1) }}</template>
      <template v-if="hidden > 0">{{ texts.lanes.hidden(hidden) }}</template>
      <button v-if="evidence.lanes && evidence.lanes.to - evidence.lanes.from < evidence.moments" type="button" @click="reload(0, 0)">{{ texts.lanes.all }}</button>
    </span>
  </div>
</template>

<style scoped>
.lanes {
  position: relative;
  background: var(--fog-0);
  border-top: 1px solid var(--fog-2);
}
canvas {
  display: block;
  cursor: crosshair;
  touch-action: none;
}
.scale {
  position: absolute;
  top: 0;
  left: 8px;
  font-size: 12px;
}
.scale button {
  font: inherit;
  color: var(--now-text);
  background: none;
  border: 0;
  cursor: pointer;
}
</style>
