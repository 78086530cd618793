<script setup lang="ts">
import { ref, watch } from 'vue'
import type { Groups } from '../api/service'
import { data, service, words } from '../api/service'
import { useEvidence } from '../stores/evidence'
import { useFrame } from '../stores/frame'
import { useSitting } from '../stores/sitting'
import { texts } from '../texts'

const evidence = useEvidence()
const here = useFrame()
const sitting = useSitting()
const groups = ref<Groups>()
const trouble = ref('')
const shown = 12

watch(
  () => evidence.peek,
  async (p) => {
    groups.value = undefined
    if (!p) return
    try {
      groups.value = await data(service.GET('/api/cases/{case}/evidence/{evidence}/threads', { params: { path: evidence.path, query: {} } }))
    } catch (e) {
      trouble.value = words(e)
    }
  },
  { immediate: true },
)

/** Where a group is: its own code, or what is innermost. */
function where(g: Groups['groups'][number]) {
  const f = g.frames.find((x) => x.own) ?? g.frames[0]
  return f ? `${f.function}${f.file ? `, ${f.file.split('/').pop()}:${f.line}` : ''}` : texts.threads.noStack
}
</script>

<template>
  <p v-if="trouble" class="trouble" role="alert">{{ trouble }}</p>
  <p v-if="groups" class="soft">{{ texts.threads.total(groups.total, groups.groups.length) }}</p>
  <ul v-if="groups">
    <li v-for="g in groups.groups" :key="g.threads[0]">
      <b class="number">{{ g.count.toLocaleString() }}</b>
      <span class="what">{{ g.kind }}, {{ g.state }}<span v-if="g.waits" class="soft">; {{ g.waits }}</span></span>
      <code class="where" :title="where(g)">{{ where(g) }}</code>
      <span class="ids">
        <button v-for="t in g.threads.slice(0, shown)" :key="t" type="button" class="link mono" :class="{ here: t === here.place.thread }" @click="sitting.go({ moment: 0, thread: t, frame: Math.max(0, g.frames.findIndex((x) => x.own)) })">{{ t }}</button>
        <span v-if="g.count > shown" class="soft">{{ texts.threads.more(g.count - shown) }}</span>
      </span>
    </li>
  </ul>
</template>

<style scoped>
ul {
  margin: 6px 0;
  padding: 0;
  list-style: none;
}
li {
  display: grid;
  grid-template-columns: 60px 230px 330px 1fr;
  gap: 12px;
  align-items: baseline;
  padding: 2px 0;
}
.number {
  text-align: right;
}
.where {
  overflow: hidden;
  white-space: nowrap;
  text-overflow: ellipsis;
}
.ids {
  display: flex;
  flex-wrap: wrap;
  gap: 2px 10px;
}
.here {
  font-weight: 700;
  text-decoration: underline;
}
p {
  margin: 2px 0;
}
.trouble {
  color: var(--wrong);
}
</style>
