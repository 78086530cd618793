<script setup lang="ts">
import { ref, watch } from 'vue'
import { words } from '../api/service'
import { useFrame } from '../stores/frame'
import { useSitting } from '../stores/sitting'
import { texts } from '../texts'

const here = useFrame()
const sitting = useSitting()
const added = ref('')
const values = ref(new Map<string, { text: string; wrong: boolean }>())

async function load() {
  const place = here.place
  const found = new Map<string, { text: string; wrong: boolean }>()
  await Promise.all(
    (sitting.state?.watches ?? []).map(async (x) => {
      try {
        found.set(x, { text: (await here.ask(x)).value, wrong: false })
      } catch (e) {
        found.set(x, { text: words(e), wrong: true })
      }
    }),
  )
  if (place === here.place) values.value = found
}

watch([() => here.place, () => JSON.stringify(sitting.state?.watches)], load, { immediate: true })

function add() {
  const x = added.value.trim()
  if (!x || !sitting.state) return
  added.value = ''
  if (!sitting.state.watches.includes(x)) void sitting.tell({ watches: [...sitting.state.watches, x] })
}

function remove(x: string) {
  void sitting.tell({ watches: (sitting.state?.watches ?? []).filter((w) => w !== x) })
}
</script>

<template>
  <section :aria-label="texts.watched.title">
    <form @submit.prevent="add">
      <h3>{{ texts.watched.title }}</h3>
      <el-input v-model="added" size="small" :aria-label="texts.watched.add" :placeholder="texts.watched.hint" />
    </form>
    <ul>
      <li v-for="x in sitting.state?.watches ?? []" :key="x" :data-watch="x">
        <code class="name">{{ x }}</code> <code :class="{ wrong: values.get(x)?.wrong }">{{ values.get(x)?.text }}</code>
        <button type="button" :aria-label="texts.watched.removeOf(x)" @click="remove(x)">{{ texts.watched.remove }}</button>
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
