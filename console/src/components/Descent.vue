<script setup lang="ts">
import { computed } from 'vue'
import type { Frame } from '../api/service'
import { useFrame } from '../stores/frame'
import { useSitting } from '../stores/sitting'
import { texts } from '../texts'

const here = useFrame()
const sitting = useSitting()

interface Row {
  frame?: Frame
  foreign: number
  left?: string // frames that are left out
}

// Frames of foreign code that follow each other are one line, and so are those that repeat others.
const rows = computed(() => {
  const out: Row[] = []
  for (const f of here.frames) {
    const last = out[out.length - 1]
    if (f.own) out.push({ frame: f, foreign: 0 })
    else if (last && last.foreign) last.foreign += 1 + (f.folded ?? 0)
    else out.push({ foreign: 1 + (f.folded ?? 0) })
    if (f.own && f.folded) out.push({ foreign: 0, left: texts.descent.folded(f.folded, f.cycle ?? 0) })
  }
  return out
})

function short(name: string) {
  return name.slice(name.lastIndexOf('/') + 1)
}
</script>

<template>
  <section :aria-label="texts.descent.title">
    <h2>{{ texts.descent.title }} <span class="soft">{{ texts.descent.thread(here.place.thread) }}</span></h2>
    <p v-if="!rows.length" class="soft">{{ texts.descent.none }}</p>
    <ol>
      <li v-for="(r, i) in rows" :key="i">
        <button v-if="r.frame" type="button" :class="{ chosen: r.frame.index === here.place.frame }" :aria-current="r.frame.index === here.place.frame" :data-frame="r.frame.index" @click="sitting.chooseFrame(r.frame.index)">
          <span class="index">{{ r.frame.index }}</span>
          <span class="mono name" :title="r.frame.function">{{ short(r.frame.function) }}</span>
          <span class="soft mono file" :title="r.frame.file"><bdi>{{ r.frame.file ? `${r.frame.file}:${r.frame.line}` : '' }}</bdi></span>
        </button>
        <span v-else class="soft foreign">{{ r.left ?? texts.descent.foreign(r.foreign) }}</span>
      </li>
    </ol>
  </section>
</template>

<style scoped>
section {
  max-height: 45%;
  overflow: auto;
  background: var(--fog-0);
  border-bottom: 1px solid var(--fog-3);
}
h2,
p {
  margin: 0;
  padding: 5px 12px;
  font-size: 14px;
}
ol {
  margin: 0;
  padding: 0;
  list-style: none;
}
button {
  display: flex;
  gap: 10px;
  align-items: baseline;
  width: 100%;
  padding: 3px 12px;
  font: inherit;
  color: var(--ink);
  text-align: left;
  background: none;
  border: 0;
  border-left: 4px solid transparent;
  cursor: pointer;
}
button:hover {
  background: var(--fog-1);
}
button.chosen {
  background: var(--now-wash);
  border-left-color: var(--now);
}
.index {
  flex: none;
  min-width: 1.6em;
  color: var(--ink-soft);
  text-align: right;
}
.name {
  font-weight: 600;
  white-space: nowrap;
}
/* Of a long path the end counts. */
.file {
  min-width: 90px;
  margin-left: auto;
  overflow: hidden;
  white-space: nowrap;
  text-overflow: ellipsis;
  direction: rtl;
  text-align: right;
}
.foreign {
  padding-left: 46px;
  font-style: italic;
}
</style>
