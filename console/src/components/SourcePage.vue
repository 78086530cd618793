<script setup lang="ts">
import { EditorView } from '@codemirror/view'
import { onMounted, onUnmounted, ref, watch } from 'vue'
import { makePage, showFile, showMarks } from '../source/page'
import { useCheckpoints } from '../stores/checkpoints'
import { useEvidence } from '../stores/evidence'
import { useFrame } from '../stores/frame'
import { texts } from '../texts'

const checkpoints = useCheckpoints()
const evidence = useEvidence()
const here = useFrame()
const holder = ref<HTMLDivElement>()
let view: EditorView | undefined

function marks() {
  if (!view) return
  const f = here.frame
  showMarks(view, {
    line: f?.file === here.file ? f.line : 0,
    caller: here.place.frame > 0,
    wrong: evidence.peek?.failure?.moment === here.place.moment && evidence.peek.failure.frame === here.place.frame,
    values: here.values,
    able: new Set(here.lines),
    ran: f?.file === here.file ? here.ran : new Map(),
    checkpoints: checkpoints.list.filter((c) => c.file === here.file).map((c) => ({ line: c.line, enabled: c.enabled, condition: !!c.when, total: checkpoints.totals.get(c.id) })),
  })
}

onMounted(() => {
  view = makePage(holder.value!, (line) => checkpoints.toggle(line))
  showFile(view, here.text)
  marks()
})
onUnmounted(() => view?.destroy())

watch(
  () => [here.file, here.text],
  () => view && showFile(view, here.text),
)
watch(() => [here.frames, here.place, here.values, here.ran, checkpoints.list, checkpoints.totals, here.lines, here.file], marks, { deep: true, flush: 'post' })
</script>

<template>
  <section :aria-label="texts.source.title">
    <h2>
      <code>{{ here.file || texts.source.none }}</code>
      <span v-if="here.frame" class="soft">{{ texts.source.place(here.frame.function, here.frame.line, here.place.frame > 0) }}</span>
    </h2>
    <div ref="holder" class="text"></div>
  </section>
</template>

<style scoped>
section {
  display: flex;
  flex-direction: column;
  min-height: 0;
  background: var(--fog-0);
}
h2 {
  display: flex;
  gap: 14px;
  align-items: baseline;
  margin: 0;
  padding: 5px 12px;
  font-size: 14px;
  border-bottom: 1px solid var(--fog-2);
}
h2 .soft {
  overflow: hidden;
  font-weight: 400;
  white-space: nowrap;
  text-overflow: ellipsis;
}
.text {
  flex: 1;
  min-height: 0;
}
</style>
