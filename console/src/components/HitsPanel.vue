<script setup lang="ts">
import { ref, watch } from 'vue'
import type { Checkpoint } from '../api/service'
import { useSitting } from '../stores/sitting'

const s = useSitting()
const when = ref('')
const from = ref(0)
const page = 100
const kind = ref<'enter' | 'return' | 'error' | 'output'>('enter')
const about = ref('')
const nth = ref('')
const show = ref('')

watch(
  () => s.checkpoint,
  (c) => {
    when.value = c?.when ?? ''
    nth.value = c?.nth ?? ''
    show.value = c?.show.join(', ') ?? ''
    from.value = 0
  },
  { immediate: true },
)

function placeOf(c: Checkpoint) {
  switch (c.kind) {
    case 'enter':
      return `enter ${c.function}`
    case 'return':
      return `return ${c.function}`
    case 'error':
    case 'output':
      return c.about ? `${c.kind} “${c.about}”` : `any ${c.kind}`
    case 'write':
      return `write ${c.about}, of ${c.evidence}@${c.moment}`
  }
  return `${c.file}:${c.line}`
}

async function add() {
  const onFunction = kind.value === 'enter' || kind.value === 'return'
  await s.addCheckpoint(onFunction ? { kind: kind.value, function: about.value.trim() } : { kind: kind.value, about: about.value.trim() })
  if (!s.trouble) about.value = ''
}

function apply() {
  const list = show.value.split(',').map((x) => x.trim()).filter(Boolean)
  void s.changeCheckpoint(s.checkpoint!, { when: when.value, nth: nth.value.trim(), show: list })
}

function turn(to: number) {
  from.value = to
  void s.choose(s.chosen, to)
}

function time(ns: number) {
  return ns < 1e6 ? `${(ns / 1e3).toFixed(1)} µs` : `${(ns / 1e6).toFixed(2)} ms`
}
</script>

<template>
  <div class="hits">
    <div class="list">
      <p v-if="!s.checkpoints.length" class="soft">No checkpoints yet. <template v-if="s.hasLines">Click in the margin beside a line, or press <kbd>m</kbd>.</template><template v-else>Set one here: all its hits are known at once.</template></p>
      <div v-for="c in s.checkpoints" :key="c.id" class="checkpoint" :class="{ chosen: c.id === s.chosen }">
        <input type="checkbox" :checked="c.enabled" :aria-label="`checkpoint ${c.id} enabled`" @change="s.changeCheckpoint(c, { enabled: !c.enabled })" />
        <button type="button" class="place mono" :title="c.text" @click="s.choose(c.id)">{{ placeOf(c) }}</button>
        <span class="total" :data-total="c.id">{{ s.totals.get(c.id)?.toLocaleString() ?? 'no such place here' }}</span>
        <button type="button" :aria-label="`delete checkpoint ${c.id}`" @click="s.deleteCheckpoint(c)">delete</button>
      </div>
      <form class="new" @submit.prevent="add">
        <select v-model="kind" aria-label="kind of the new checkpoint">
          <option value="enter">on entering</option>
          <option value="return">on returning from</option>
          <option value="error">on errors with</option>
          <option value="output">on output with</option>
        </select>
        <el-input v-model="about" size="small" aria-label="function or text of the new checkpoint" :placeholder="kind === 'enter' || kind === 'return' ? 'a function' : 'a text; empty for any'" />
        <el-button size="small" native-type="submit">Set</el-button>
      </form>
      <p v-if="s.checkpoints.length > 1" class="turn">
        <button type="button" @click="s.switchAll(true)">enable all</button>
        <button type="button" @click="s.switchAll(false)">disable all</button>
      </p>
    </div>
    <div v-if="s.checkpoint" class="detail">
      <form @submit.prevent="apply">
        <label for="when">only when</label>
        <el-input id="when" v-model="when" size="small" placeholder="a condition on the values there" />
        <el-input v-model="nth" class="nth" size="small" aria-label="hit number" placeholder="5, every 100, last" />
        <el-input v-model="show" class="show" size="small" aria-label="values to show at each hit" placeholder="show: water, quay.Name" />
        <el-button size="small" native-type="submit">Apply</el-button>
        <span v-if="s.hits" class="soft">{{ s.hits.total.toLocaleString() }} {{ s.hits.total === 1 ? 'hit' : 'hits' }}</span>
        <span v-if="s.hits?.undecided" class="soft">, no answer at {{ s.hits.undecided }}: {{ s.hits.trouble }}</span>
      </form>
      <ol v-if="s.hits" :start="from + 1">
        <li v-for="h in s.hits.hits" :key="h.moment">
          <button type="button" class="hit" :class="{ chosen: h.moment === s.place.moment }" :data-moment="h.moment" @click="s.go({ moment: h.moment, thread: h.thread, frame: 0 }, `hit of checkpoint ${s.chosen}`)">
            <span class="mono">{{ h.moment }}</span> <span class="soft">+{{ time(h.timeNs) }}</span>
            <span v-if="h.text" class="shown" :title="h.text">{{ h.text }}</span>
            <template v-for="x in h.shown ?? []" :key="x.expression">
              <code class="shown" :title="x.error || x.expression">{{ x.error ? '?' : x.value }}</code>
            </template>
          </button>
        </li>
      </ol>
      <p v-if="s.hits && s.hits.total > page" class="turn">
        <button type="button" :disabled="from === 0" @click="turn(Math.max(0, from - page))">earlier hits</button>
        <button type="button" :disabled="from + page >= s.hits.total" @click="turn(from + page)">later hits</button>
        <button type="button" :disabled="from + page >= s.hits.total" @click="turn(Math.floor((s.hits.total - 1) / page) * page)">last hits</button>
      </p>
    </div>
  </div>
</template>

<style scoped>
.hits {
  display: flex;
  gap: 20px;
}
.list {
  min-width: 340px;
}
.checkpoint {
  display: flex;
  gap: 8px;
  align-items: baseline;
  padding: 2px 6px;
  border-left: 4px solid transparent;
}
.checkpoint.chosen {
  background: var(--fog-1);
  border-left-color: var(--mark);
}
button:not(.el-button) {
  padding: 0;
  font: inherit;
  color: var(--ink-soft);
  background: none;
  border: 0;
  cursor: pointer;
}
button:not(.el-button):disabled {
  opacity: 0.5;
  cursor: default;
}
.place {
  font-size: 12.5px;
  color: var(--ink);
}
.total {
  margin-left: auto;
  font-weight: 600;
  color: var(--mark-text);
}
.detail {
  flex: 1;
  min-width: 0;
}
form {
  display: flex;
  gap: 8px;
  align-items: center;
}
form label,
form .soft {
  white-space: nowrap;
}
form .el-input {
  max-width: 320px;
}
form .nth {
  max-width: 130px;
}
form .show {
  max-width: 190px;
}
.new {
  margin-top: 6px;
}
.shown {
  display: inline-block;
  max-width: 520px;
  margin-left: 8px;
  overflow: hidden;
  white-space: nowrap;
  text-overflow: ellipsis;
  vertical-align: bottom;
}
ol {
  display: flex;
  flex-wrap: wrap;
  gap: 2px 34px;
  margin: 6px 0 0;
  padding-left: 34px;
}
.hit {
  padding: 0 4px;
  color: var(--ink);
}
.hit.chosen {
  background: var(--now-wash);
  box-shadow: inset 0 -2px var(--now);
}
.turn {
  display: flex;
  gap: 16px;
  margin: 6px 0;
}
.turn button {
  color: var(--now-text);
}
</style>
