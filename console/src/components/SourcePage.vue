<script setup lang="ts">
import { EditorView } from '@codemirror/view'
import { onMounted, onUnmounted, ref, watch } from 'vue'
import { makePage, showFile, showMarks } from '../source/page'
import { useSitting } from '../stores/sitting'

const s = useSitting()
const holder = ref<HTMLDivElement>()
let view: EditorView | undefined

function marks() {
  if (!view) return
  const f = s.frame
  showMarks(view, {
    line: f?.file === s.file ? f.line : 0,
    caller: s.place.frame > 0,
    wrong: s.peek?.failure?.moment === s.place.moment && s.peek.failure.frame === s.place.frame,
    values: s.values,
    able: new Set(s.lines),
    checkpoints: s.checkpoints.filter((c) => c.file === s.file).map((c) => ({ line: c.line, enabled: c.enabled, condition: !!c.when, total: s.totals.get(c.id) })),
  })
}

onMounted(() => {
  view = makePage(holder.value!, (line) => s.toggleCheckpoint(line))
  showFile(view, s.text)
  marks()
})
onUnmounted(() => view?.destroy())

watch(
  () => [s.file, s.text],
  () => view && showFile(view, s.text),
)
watch(() => [s.frames, s.place, s.values, s.checkpoints, s.totals, s.lines, s.file], marks, { deep: true, flush: 'post' })
</script>

<template>
  <section aria-label="Page">
    <h2>
      <code>{{ s.file || 'no source text' }}</code>
      <span v-if="s.frame" class="soft">{{ s.frame.function }}, line {{ s.frame.line }}<template v-if="s.place.frame > 0">, a caller</template></span>
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
