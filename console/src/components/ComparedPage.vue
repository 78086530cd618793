<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import type { RunPlace } from '../api/service'
import { data, service, words } from '../api/service'
import { texts } from '../texts'

/** The source around a place of one run, with the marks of all places at which the runs part. */
const props = defineProps<{ case: string; evidence: string; place?: RunPlace; value: string; marks: Map<number, string>; title: string }>()
const lines = ref<string[]>([])
const trouble = ref('')
const kept = new Map<string, string[]>()
const around = 14

const shown = computed(() => {
  const line = props.place?.line ?? 0
  const from = Math.max(1, line - around)
  return lines.value.slice(from - 1, line + around).map((text, i) => ({ n: from + i, text }))
})

watch(
  () => [props.evidence, props.place?.file] as const,
  async ([evidence, file]) => {
    trouble.value = ''
    lines.value = []
    if (!file) return
    const key = `${evidence}\n${file}`
    try {
      if (!kept.has(key)) {
        const got = await data(service.GET('/api/cases/{case}/evidence/{evidence}/file', { params: { path: { case: props.case, evidence }, query: { file } } }))
        kept.set(key, got.text.split('\n'))
      }
      if (props.evidence === evidence && props.place?.file === file) lines.value = kept.get(key)!
    } catch (e) {
      trouble.value = words(e)
    }
  },
  { immediate: true },
)
</script>

<template>
  <section :aria-label="props.title">
    <h3>
      {{ props.title }}
      <RouterLink v-if="props.place" :to="{ name: 'sitting', params: { case: props.case, evidence: props.evidence }, query: { moment: String(props.place.moment), thread: props.place.thread } }">{{ texts.compare.place(props.evidence, props.place.moment) }}</RouterLink>
      <span v-else>{{ props.evidence }}</span>
    </h3>
    <p class="value"><code>{{ props.value || texts.compare.noValue }}</code></p>
    <p v-if="!props.place" class="soft">{{ texts.compare.nothing }}</p>
    <p v-else class="soft">{{ props.place.function }}<template v-if="props.place.file">, {{ props.place.file }}:{{ props.place.line }}</template></p>
    <p v-if="trouble" class="soft">{{ trouble }}</p>
    <ol v-if="shown.length" tabindex="0" :aria-label="texts.compare.source(props.place?.file ?? '')">
      <li v-for="l in shown" :key="l.n" :class="{ now: l.n === props.place?.line, parted: props.marks.has(l.n) }">
        <span class="mark">{{ props.marks.get(l.n) ?? '' }}</span><span class="n">{{ l.n }}</span><code>{{ l.text.replace(/\t/g, '    ') || ' ' }}</code>
      </li>
    </ol>
  </section>
</template>

<style scoped>
section {
  background: var(--fog-0);
  border: 1px solid var(--fog-3);
  padding: 8px 0;
  min-width: 0;
}
h3,
p {
  margin: 2px 12px 6px;
  font-size: 15px;
}
p {
  font-size: 13px;
  overflow-wrap: anywhere;
}
.value {
  border-left: 4px solid var(--wrong);
  padding-left: 8px;
}
ol {
  list-style: none;
  margin: 0;
  padding: 0;
  overflow-x: auto;
  font-family: var(--mono);
  font-size: 12.5px;
  line-height: 1.55;
}
li {
  display: flex;
  width: max-content;
  min-width: 100%;
}
.mark,
.n {
  flex: none;
  width: 30px;
  padding-right: 8px;
  text-align: right;
  color: var(--ink-soft);
  border-left: 4px solid transparent;
}
.mark {
  width: 38px;
  font-size: 11.5px;
  font-weight: 600;
  color: var(--wrong);
}
.parted .mark {
  border-left-color: var(--wrong);
}
.now {
  background: var(--now-wash);
}
.now .n {
  border-left-color: var(--now);
  color: var(--now-text);
  font-weight: 600;
}
li code {
  white-space: pre;
}
</style>
