<script setup lang="ts">
import { ref } from 'vue'
import { useLookups } from '../stores/lookups'
import { useSitting } from '../stores/sitting'
import { texts } from '../texts'

const lookups = useLookups()
const sitting = useSitting()
const text = ref('')
const from = ref(0)
const page = 50

function search(at: number) {
  from.value = at
  if (text.value.trim()) void lookups.search(text.value.trim(), at, page)
}
</script>

<template>
  <form @submit.prevent="search(0)">
    <el-input id="search" v-model="text" :aria-label="texts.search.label" :placeholder="texts.search.hint" />
    <el-button native-type="submit">{{ texts.search.find }}</el-button>
    <span v-if="lookups.found" class="soft">{{ texts.search.total(lookups.found.total) }}</span>
  </form>
  <p v-if="!lookups.found" class="soft">{{ texts.search.none }}</p>
  <ul v-else>
    <li v-for="f in lookups.found.found" :key="f.moment + f.name">
      <button type="button" class="link mono" @click="sitting.go({ moment: f.moment, thread: f.thread, frame: 0 }, texts.search.goneTo)">{{ f.moment }}</button>
      <code class="name">{{ f.name }}</code> <code :title="f.value">{{ f.value }}</code> <span class="soft mono">{{ f.file }}:{{ f.line }}</span>
    </li>
  </ul>
  <p v-if="lookups.found && lookups.found.total > page">
    <button type="button" class="link" :disabled="from === 0" @click="search(Math.max(0, from - page))">{{ texts.search.earlier }}</button>
    <button type="button" class="link" :disabled="from + page >= lookups.found.total" @click="search(from + page)">{{ texts.search.later }}</button>
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
p {
  display: flex;
  gap: 14px;
  margin: 4px 0;
}
</style>
