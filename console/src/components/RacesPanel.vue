<script setup lang="ts">
import { ref } from 'vue'
import type { Access } from '../api/service'
import { useLookups } from '../stores/lookups'
import { useSitting } from '../stores/sitting'
import { texts } from '../texts'

const lookups = useLookups()
const sitting = useSitting()
const enter = ref('')
const by = ref('')
const busy = ref(false)

async function wait(work: Promise<void>) {
  busy.value = true
  await work
  busy.value = false
}

function go(a: Access) {
  return sitting.go({ moment: a.moment, thread: a.thread, frame: 0 }, texts.races.goneTo(a.name))
}

/** The accesses and calls of an overlap, in the order in which they happened. */
function rows(calls: NonNullable<typeof lookups.overlaps>['overlaps'][number]['calls']) {
  return calls
    .flatMap((c) => [
      { at: c.moment, thread: c.thread, text: texts.races.began(c.function, c.end) },
      ...c.reads.map((a) => ({ at: a.moment, thread: a.thread, text: texts.races.did(a.write, a.name, a.value) })),
      ...c.writes.map((a) => ({ at: a.moment, thread: a.thread, text: texts.races.did(a.write, a.name, a.value) })),
      ...c.locks.map((l) => ({ at: l.since, thread: c.thread, text: texts.races.held(l.name || l.address, l.until) })),
    ])
    .sort((a, b) => a.at - b.at)
}
</script>

<template>
  <form @submit.prevent="enter.trim() && wait(lookups.findOverlaps(enter.trim(), by.trim()))">
    <el-button id="find-races" type="button" :loading="busy" @click="wait(lookups.findRaces())">{{ texts.races.find }}</el-button>
    <span class="soft">{{ texts.races.or }}</span>
    <el-input v-model="enter" :aria-label="texts.races.enter" :placeholder="texts.races.enter" />
    <el-input v-model="by" :aria-label="texts.races.by" :placeholder="texts.races.by" />
    <el-button native-type="submit">{{ texts.races.overlap }}</el-button>
  </form>
  <p v-if="!lookups.races && !lookups.overlaps" class="soft">{{ texts.races.none }}</p>
  <p v-if="lookups.races" class="soft">{{ texts.races.total(lookups.races.total) }}</p>
  <ol v-if="lookups.races" :aria-label="texts.races.title">
    <li v-for="(r, i) in lookups.races.races" :key="i">
      <code class="name">{{ r.name }}</code>
      <b>{{ r.lost ? texts.races.lost : texts.races.unordered }}</b>
      <span v-if="r.times > 1" class="soft">{{ texts.story.times(r.times) }}</span>
      <span v-for="a in [r.first, r.second, ...(r.overwrite ? [r.overwrite] : [])]" :key="a.moment">
        <button type="button" class="link mono" @click="go(a)">@{{ a.moment }}</button>
        {{ texts.races.thread(a.thread) }} {{ texts.races.did(a.write, a.name, a.value) }}
        <span class="soft mono">{{ a.file }}:{{ a.line }}</span>
      </span>
    </li>
  </ol>
  <template v-if="lookups.overlaps">
    <p class="soft">{{ texts.races.overlaps(lookups.overlaps.total) }}</p>
    <section v-for="(o, i) in lookups.overlaps.overlaps" :key="i">
      <b>{{ o.key }}</b>
      <ul>
        <li v-for="(r, k) in rows(o.calls)" :key="k">
          <button type="button" class="link mono" @click="sitting.go({ moment: r.at, thread: r.thread, frame: 0 }, texts.races.overlap)">@{{ r.at }}</button>
          {{ texts.races.thread(r.thread) }} {{ r.text }}
        </li>
      </ul>
    </section>
  </template>
</template>

<style scoped>
form {
  display: flex;
  gap: 10px;
  align-items: center;
}
form .el-input {
  max-width: 240px;
}
p {
  margin: 4px 0;
}
ol,
ul {
  margin: 6px 0;
  padding: 0;
  list-style: none;
}
li {
  display: flex;
  gap: 12px;
  align-items: baseline;
  white-space: nowrap;
}
.name {
  font-weight: 600;
}
</style>
