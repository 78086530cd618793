<script setup lang="ts">
import { ref, watch } from 'vue'
import type { Waits } from '../api/service'
import { data, service, words } from '../api/service'
import { useEvidence } from '../stores/evidence'
import { useFrame } from '../stores/frame'
import { useSitting } from '../stores/sitting'
import { texts } from '../texts'

const evidence = useEvidence()
const here = useFrame()
const sitting = useSitting()
const waits = ref<Waits>()
const trouble = ref('')

watch(
  () => here.place.moment,
  async () => {
    try {
      waits.value = await data(service.GET('/api/cases/{case}/evidence/{evidence}/waits', { params: { path: evidence.path, query: { ...here.place } } }))
      trouble.value = ''
    } catch (e) {
      waits.value = undefined
      trouble.value = words(e)
    }
  },
  { immediate: true },
)

function go(thread: string) {
  return sitting.go({ moment: here.place.moment, thread, frame: 0 }, texts.waits.goneTo(thread))
}

/** Whether a thread is in a deadlock. */
function stuck(thread: string) {
  return waits.value?.cycles.some((c) => c.threads.includes(thread)) ?? false
}
</script>

<template>
  <p v-if="trouble" class="soft" role="status">{{ trouble }}</p>
  <template v-if="waits">
    <p class="soft">{{ texts.waits.total(waits.total) }}</p>
    <p v-for="(c, i) in waits.cycles" :key="i" class="cycle" role="status">
      <b>{{ texts.waits.deadlock }}</b>
      <span v-for="(t, k) in c.threads" :key="t">
        <button type="button" class="link mono" @click="go(t)">{{ t }}</button>
        {{ texts.waits.on(c.on[k] ?? '') }}, {{ texts.waits.heldBy }} <span class="mono">{{ c.threads[(k + 1) % c.threads.length] }}</span>
      </span>
    </p>
    <ul :aria-label="texts.waits.title">
      <li v-for="w in waits.waits" :key="w.thread" :class="{ stuck: stuck(w.thread) }">
        <button type="button" class="link mono" :class="{ here: w.thread === here.place.thread }" @click="go(w.thread)">{{ w.thread }}</button>
        <span>{{ texts.waits.on(w.on) }} <code>{{ w.name }}</code></span>
        <span>
          <template v-if="w.holders.length">{{ texts.waits.heldBy }} <button v-for="h in w.holders" :key="h" type="button" class="link mono" @click="go(h)">{{ h }}</button></template>
          <span v-if="w.note" class="soft">{{ w.note }}</span>
        </span>
        <code class="where" :title="w.function">{{ w.function }}<template v-if="w.file">, {{ w.file.split('/').pop() }}:{{ w.line }}</template></code>
      </li>
    </ul>
  </template>
</template>

<style scoped>
ul {
  margin: 6px 0;
  padding: 0;
  list-style: none;
}
li {
  display: grid;
  grid-template-columns: 110px 300px 1fr 330px;
  gap: 12px;
  align-items: baseline;
  padding: 2px 0;
}
li > .link {
  justify-self: start;
}
.cycle {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 18px;
}
.where {
  overflow: hidden;
  white-space: nowrap;
  text-overflow: ellipsis;
}
.cycle,
.stuck code {
  color: var(--wrong);
}
.here {
  font-weight: 700;
  text-decoration: underline;
}
p {
  margin: 2px 0;
}
</style>
