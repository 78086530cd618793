<script setup lang="ts">
import { ref, watch } from 'vue'
import { newKinds } from '../checkpointKinds'
import { useCheckpoints } from '../stores/checkpoints'
import { useEvidence } from '../stores/evidence'
import { useFrame } from '../stores/frame'
import { useSitting } from '../stores/sitting'
import { useTrouble } from '../stores/trouble'
import { texts } from '../texts'

const checkpoints = useCheckpoints()
const evidence = useEvidence()
const here = useFrame()
const sitting = useSitting()
const trouble = useTrouble()
const when = ref('')
const from = ref(0)
const page = 100
const kind = ref(newKinds[0])
const about = ref('')
const nth = ref('')
const show = ref('')

watch(
  () => checkpoints.checkpoint,
  (c) => {
    when.value = c?.when ?? ''
    nth.value = c?.nth ?? ''
    show.value = c?.show.join(', ') ?? ''
    from.value = 0
  },
  { immediate: true },
)

async function add() {
  await checkpoints.add({ on: `${kind.value} ${about.value.trim()}` })
  if (!trouble.trouble) about.value = ''
}

function apply() {
  const list = show.value.split(',').map((x) => x.trim()).filter(Boolean)
  void checkpoints.change(checkpoints.checkpoint!, { when: when.value, nth: nth.value.trim(), show: list })
}

function turn(to: number) {
  from.value = to
  void checkpoints.choose(checkpoints.chosen, to)
}

function time(ns: number) {
  return ns < 1e6 ? `${(ns / 1e3).toFixed(1)} µs` : `${(ns / 1e6).toFixed(2)} ms`
}
</script>

<template>
  <div class="hits">
    <div class="list">
      <p v-if="!checkpoints.list.length" class="soft">{{ texts.hits.none }} <template v-if="evidence.hasLines">{{ texts.hits.noneLines[0] }} <kbd>m</kbd>{{ texts.hits.noneLines[1] }}</template><template v-else>{{ texts.hits.noneOther }}</template></p>
      <div v-for="c in checkpoints.list" :key="c.id" class="checkpoint" :class="{ chosen: c.id === checkpoints.chosen }">
        <input type="checkbox" :checked="c.enabled" :aria-label="texts.hits.enabled(c.id)" @change="checkpoints.change(c, { enabled: !c.enabled })" />
        <button type="button" class="place mono" :title="c.text" @click="checkpoints.choose(c.id)">{{ c.label }}</button>
        <span v-if="c.private" class="soft">{{ texts.hits.mine }}</span>
        <span class="total" :data-total="c.id">{{ checkpoints.totals.get(c.id)?.toLocaleString() ?? texts.hits.elsewhere }}</span>
        <button type="button" :aria-label="texts.hits.deleteOf(c.id)" @click="checkpoints.remove(c)">{{ texts.hits.delete }}</button>
      </div>
      <form class="new" @submit.prevent="add">
        <select v-model="kind" :aria-label="texts.hits.kind">
          <option v-for="k in newKinds" :key="k" :value="k">{{ texts.checkpoints[k].words }}</option>
        </select>
        <el-input v-model="about" size="small" :aria-label="texts.hits.about" :placeholder="texts.checkpoints[kind].about" />
        <el-button size="small" native-type="submit">{{ texts.hits.set }}</el-button>
      </form>
      <label class="soft"><input v-model="checkpoints.isPrivate" type="checkbox" /> {{ texts.hits.private }}</label>
      <p v-if="checkpoints.list.length > 1" class="turn">
        <button type="button" @click="checkpoints.switchAll(true)">{{ texts.hits.enableAll }}</button>
        <button type="button" @click="checkpoints.switchAll(false)">{{ texts.hits.disableAll }}</button>
      </p>
    </div>
    <div v-if="checkpoints.checkpoint" class="detail">
      <form @submit.prevent="apply">
        <label for="when">{{ texts.hits.when }}</label>
        <el-input id="when" v-model="when" size="small" :placeholder="texts.hits.whenHint" />
        <el-input v-model="nth" class="nth" size="small" :aria-label="texts.hits.nth" :placeholder="texts.hits.nthHint" />
        <el-input v-model="show" class="show" size="small" :aria-label="texts.hits.show" :placeholder="texts.hits.showHint" />
        <el-button size="small" native-type="submit">{{ texts.hits.apply }}</el-button>
        <span v-if="checkpoints.hits" class="soft">{{ texts.hits.total(checkpoints.hits.total) }}</span>
        <span v-if="checkpoints.hits?.undecided" class="soft">{{ texts.hits.undecided(checkpoints.hits.undecided, checkpoints.hits.trouble) }}</span>
      </form>
      <ol v-if="checkpoints.hits" :start="from + 1">
        <li v-for="h in checkpoints.hits.hits" :key="h.moment">
          <button type="button" class="hit" :class="{ chosen: h.moment === here.place.moment }" :data-moment="h.moment" @click="sitting.go({ moment: h.moment, thread: h.thread, frame: 0 }, texts.hits.goneTo(checkpoints.chosen))">
            <span class="mono">{{ h.moment }}</span> <span class="soft">{{ h.estimated ? texts.hits.estimated + ' ' : '' }}+{{ time(h.timeNs) }}</span>
            <span v-if="h.text" class="shown" :title="h.text">{{ h.text }}</span>
            <template v-for="x in h.shown ?? []" :key="x.expression">
              <code class="shown" :title="x.error || x.expression">{{ x.error ? '?' : x.value }}</code>
            </template>
          </button>
        </li>
      </ol>
      <p v-if="checkpoints.hits && checkpoints.hits.total > page" class="turn">
        <button type="button" :disabled="from === 0" @click="turn(Math.max(0, from - page))">{{ texts.hits.earlier }}</button>
        <button type="button" :disabled="from + page >= checkpoints.hits.total" @click="turn(from + page)">{{ texts.hits.later }}</button>
        <button type="button" :disabled="from + page >= checkpoints.hits.total" @click="turn(Math.floor((checkpoints.hits.total - 1) / page) * page)">{{ texts.hits.last }}</button>
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
