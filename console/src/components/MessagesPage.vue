<script setup lang="ts">
import { nextTick, ref, watch } from 'vue'
import type { Messages } from '../api/service'
import { data, duration, service, words } from '../api/service'
import { useSitting } from '../stores/sitting'

const s = useSitting()
const list = ref<Messages>()
const alone = ref(false)
const trouble = ref('')
const holder = ref<HTMLDivElement>()

watch(
  [() => s.place.moment, () => s.place.thread, alone],
  async () => {
    try {
      const query = { moment: s.place.moment, thread: Number(s.place.thread), alone: alone.value }
      list.value = await data(service.GET('/api/cases/{case}/evidence/{evidence}/messages', { params: { path: s.path, query } }))
      trouble.value = ''
      await nextTick()
      holder.value?.querySelector('.here')?.scrollIntoView({ block: 'center' })
    } catch (e) {
      trouble.value = words(e)
    }
  },
  { immediate: true },
)
</script>

<template>
  <div ref="holder" class="messages" aria-label="Messages around the moment">
    <label class="alone"><input v-model="alone" type="checkbox" /> of this thread alone</label>
    <p v-if="trouble" class="wrong" role="alert">{{ trouble }}</p>
    <p v-if="list && !list.messages.length" class="soft">Nothing was said around this moment.</p>
    <button v-for="m in list?.messages" :key="m.moment" type="button" class="row" :class="{ here: m.moment === s.place.moment }" @click="s.go({ moment: m.moment, thread: m.thread, frame: 0 }, 'message')">
      <span class="mono soft number">+{{ duration(m.timeNs) }}</span>
      <span class="mono soft">{{ m.function }} #{{ m.thread }}</span>
      <span class="text">{{ m.text }}</span>
    </button>
  </div>
</template>

<style scoped>
.messages {
  overflow: auto;
  background: var(--fog-0);
}
.alone {
  display: block;
  padding: 6px 14px;
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
