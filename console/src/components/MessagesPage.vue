<script setup lang="ts">
import { nextTick, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import type { Messages } from '../api/service'
import { data, duration, service, words } from '../api/service'
import { useEvidence } from '../stores/evidence'
import { useFrame } from '../stores/frame'
import { useSitting } from '../stores/sitting'
import { texts } from '../texts'

const evidence = useEvidence()
const here = useFrame()
const sitting = useSitting()
const router = useRouter()
const list = ref<Messages>()
const of = ref<'all' | 'trace' | 'thread'>('all')
const trouble = ref('')
const holder = ref<HTMLDivElement>()

watch(
  [() => here.place.moment, () => here.place.thread, of],
  async () => {
    try {
      const query = { moment: here.place.moment, thread: here.place.thread, of: of.value }
      list.value = await data(service.GET('/api/cases/{case}/evidence/{evidence}/messages', { params: { path: evidence.path, query } }))
      trouble.value = ''
      await nextTick()
      holder.value?.querySelector('.here')?.scrollIntoView({ block: 'center' })
    } catch (e) {
      list.value = undefined
      trouble.value = words(e)
    }
  },
  { immediate: true },
)

/** Goes to where a message was said, which may be in other evidence. */
function go(m: Messages['messages'][number]) {
  if (m.evidence) void router.push({ name: 'sitting', params: { case: evidence.path.case, evidence: m.evidence }, query: { moment: String(m.moment), thread: m.thread } })
  else void sitting.go({ moment: m.moment, thread: m.thread, frame: 0 }, texts.messages.goneTo)
}
</script>

<template>
  <div ref="holder" class="messages" :aria-label="texts.messages.title">
    <fieldset class="of">
      <legend class="unseen">{{ texts.messages.of }}</legend>
      <label><input v-model="of" type="radio" value="all" /> {{ texts.messages.all }}</label>
      <label><input v-model="of" type="radio" value="trace" /> {{ texts.messages.trace }}</label>
      <label><input v-model="of" type="radio" value="thread" /> {{ texts.messages.thread }}</label>
    </fieldset>
    <p v-if="trouble" class="wrong" role="alert">{{ trouble }}</p>
    <p v-if="list && !list.messages.length" class="soft">{{ texts.messages.none }}</p>
    <button v-for="(m, i) in list?.messages" :key="`${m.evidence}@${m.moment}`" type="button" class="row" :class="{ here: i === list?.here }" @click="go(m)">
      <span class="mono soft number">{{ m.timeNs < 0 ? '−' : '+' }}{{ duration(Math.abs(m.timeNs)) }}</span>
      <span class="mono soft"><template v-if="m.evidence">{{ m.evidence }}: </template>{{ m.function }} #{{ m.thread }}</span>
      <span class="text">{{ m.text }}</span>
    </button>
  </div>
</template>

<style scoped>
.messages.source {
  overflow: auto;
}
.messages {
  background: var(--fog-0);
}
.of {
  position: sticky;
  z-index: 2;
  top: 0;
  display: flex;
  background: var(--fog-0);
  gap: 18px;
  margin: 0;
  padding: 6px 14px;
  border: 0;
}
/* Below the tabs. */
.messages:not(.source) .of {
  top: 30px;
}
.unseen {
  position: absolute;
  clip-path: inset(50%);
}
.row {
  display: grid;
  grid-template-columns: 92px minmax(90px, 0.5fr) 2fr;
  gap: 12px;
  width: 100%;
  padding: 2px 14px;
  border: 0;
  border-left: 4px solid transparent;
  background: none;
  color: var(--ink);
  font: inherit;
  text-align: left;
  cursor: pointer;
}
.row:hover {
  background: var(--fog-1);
}
.here {
  border-left-color: var(--now);
  background: var(--now-wash);
}
.row > span {
  overflow: hidden;
  white-space: nowrap;
  text-overflow: ellipsis;
}
.number {
  text-align: right;
}
.wrong {
  color: var(--wrong);
}
</style>
