<script setup lang="ts">
import { useStorage } from '@vueuse/core'
import { computed, ref, watch } from 'vue'
import { words } from '../api/service'
import { useEvidence } from '../stores/evidence'
import { useFrame } from '../stores/frame'
import { useSitting } from '../stores/sitting'
import { texts } from '../texts'

const here = useFrame()
const sitting = useSitting()
const evidence = useEvidence()
const added = ref('')
const isMine = ref(false)
/** Expressions that nobody else sees; this browser keeps them for the evidence. */
const mine = useStorage<string[]>(() => `watched ${evidence.path.case}/${evidence.path.evidence}`, [])
const values = ref(new Map<string, { text: string; wrong: boolean }>())
const shared = computed(() => sitting.state?.watches ?? [])
const all = computed(() => [...shared.value.map((text) => ({ text, isMine: false })), ...mine.value.filter((x) => !shared.value.includes(x)).map((text) => ({ text, isMine: true }))])

async function load() {
  const place = here.place
  const found = new Map<string, { text: string; wrong: boolean }>()
  await Promise.all(
    all.value.map(async ({ text: x }) => {
      try {
        found.set(x, { text: (await here.ask(x)).value, wrong: false })
      } catch (e) {
        found.set(x, { text: words(e), wrong: true })
      }
    }),
  )
  if (place === here.place) values.value = found
}

watch([() => here.place, () => JSON.stringify(all.value)], load, { immediate: true })

function add() {
  const x = added.value.trim()
  if (!x) return
  added.value = ''
  if (all.value.some((w) => w.text === x)) return
  if (isMine.value) mine.value = [...mine.value, x]
  else void sitting.tell({ watches: [...shared.value, x] })
}

function remove(x: { text: string; isMine: boolean }) {
  if (x.isMine) mine.value = mine.value.filter((w) => w !== x.text)
  else void sitting.tell({ watches: shared.value.filter((w) => w !== x.text) })
}
</script>

<template>
  <section :aria-label="texts.watched.title">
    <form @submit.prevent="add">
      <h3>{{ texts.watched.title }}</h3>
      <el-input v-model="added" size="small" :aria-label="texts.watched.add" :placeholder="texts.watched.hint" />
      <label class="soft"><input v-model="isMine" type="checkbox" /> {{ texts.watched.mine }}</label>
    </form>
    <ul>
      <li v-for="x in all" :key="x.text" :data-watch="x.text">
        <code class="name">{{ x.text }}</code> <code :class="{ wrong: values.get(x.text)?.wrong }">{{ values.get(x.text)?.text }}</code>
        <span v-if="x.isMine" class="soft">{{ texts.watched.mine }}</span>
        <button type="button" :aria-label="texts.watched.removeOf(x.text)" @click="remove(x)">{{ texts.watched.remove }}</button>
      </li>
    </ul>
  </section>
</template>

<style scoped>
section {
  max-height: 40%;
  overflow: auto;
  padding: 4px 12px 6px;
  background: var(--fog-0);
  border-top: 1px solid var(--fog-3);
}
form {
  display: flex;
  gap: 10px;
  align-items: center;
}
form label {
  white-space: nowrap;
}
h3 {
  margin: 0;
  font-size: 14px;
  white-space: nowrap;
}
ul {
  margin: 2px 0 0;
  padding: 0;
  list-style: none;
}
li {
  display: flex;
  gap: 8px;
  align-items: baseline;
}
.name {
  font-weight: 600;
}
.wrong {
  color: var(--wrong);
}
button {
  margin-left: auto;
  padding: 0;
  font: inherit;
  font-size: 12.5px;
  color: var(--now-text);
  background: none;
  border: 0;
  cursor: pointer;
}
</style>
