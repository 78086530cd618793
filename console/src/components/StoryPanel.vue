<script setup lang="ts">
import { ref, watch } from 'vue'
import { useLookups } from '../stores/lookups'
import { useSitting } from '../stores/sitting'
import { texts } from '../texts'

const lookups = useLookups()
const sitting = useSitting()
const of = ref('')
const from = ref(0)
const page = 60

watch(
  () => lookups.storyOf,
  (name) => {
    of.value = name
    from.value = 0
  },
)

function tell(at: number) {
  from.value = at
  void lookups.tell(of.value.trim(), at, page)
}
</script>

<template>
  <form @submit.prevent="tell(0)">
    <el-input v-model="of" :aria-label="texts.story.label" :placeholder="texts.story.hint" />
    <el-button native-type="submit">{{ texts.story.tell }}</el-button>
    <span v-if="lookups.story" class="soft">{{ texts.story.total(lookups.story.total, lookups.story.lives) }}</span>
  </form>
  <p v-if="!lookups.story" class="soft">{{ texts.story.none }}</p>
  <ol v-else :aria-label="texts.story.title">
    <template v-for="(s, i) in lookups.story.steps" :key="i">
      <li v-if="s.life !== (lookups.story.steps[i - 1]?.life ?? 1)" class="life">{{ texts.story.life(s.life) }}</li>
      <li>
        <button type="button" class="link mono" @click="sitting.go({ moment: s.moment, thread: s.thread, frame: 0 }, texts.story.goneTo(s.what))">@{{ s.moment }}</button>
        <span class="what">{{ texts.story.what[s.what] ?? s.what }}</span>
        <code class="name">{{ s.name }}</code>
        <code v-if="s.what === 'changed'" :title="texts.story.change(s.old, s.new)">{{ texts.story.change(s.old, s.new) }}</code>
        <span v-if="s.times > 1" class="soft">{{ texts.story.times(s.times) }}</span>
        <span class="soft mono">{{ s.file }}:{{ s.line }}</span>
      </li>
    </template>
  </ol>
  <p v-if="lookups.story && lookups.story.total > page" class="pages">
    <button type="button" class="link" :disabled="from === 0" @click="tell(Math.max(0, from - page))">{{ texts.search.earlier }}</button>
    <button type="button" class="link" :disabled="from + page >= lookups.story.total" @click="tell(from + page)">{{ texts.search.later }}</button>
  </p>
</template>

<style scoped>
form {
  display: flex;
  gap: 10px;
  align-items: center;
}
form .el-input {
  max-width: 520px;
}
ol {
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
.life {
  margin-top: 4px;
  font-weight: 600;
  border-top: 1px solid var(--fog-3);
}
.what {
  width: 96px;
}
.name {
  font-weight: 600;
}
.pages {
  display: flex;
  gap: 14px;
  margin: 4px 0;
}
</style>
