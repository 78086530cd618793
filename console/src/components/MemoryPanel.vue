<script setup lang="ts">
import { ref } from 'vue'
import type { Holders, Memory } from '../api/service'
import { data, service, words } from '../api/service'
import { useEvidence } from '../stores/evidence'
import { texts } from '../texts'

const evidence = useEvidence()
const address = ref('')
const memory = ref<Memory>()
const holders = ref<Holders>()
const trouble = ref('')
const span = 128

async function show(at: string) {
  address.value = at
  holders.value = undefined
  await attempt(async () => {
    memory.value = await data(service.GET('/api/cases/{case}/evidence/{evidence}/memory', { params: { path: evidence.path, query: { address: at, count: span } } }))
  })
}

async function hold() {
  await attempt(async () => {
    holders.value = await data(service.GET('/api/cases/{case}/evidence/{evidence}/holders', { params: { path: evidence.path, query: { address: address.value, count: 50 } } }))
  })
}

async function attempt(f: () => Promise<void>) {
  try {
    trouble.value = ''
    await f()
  } catch (e) {
    trouble.value = words(e)
  }
}

/** The printable characters of a word, lowest byte first. */
function characters(value: string) {
  return (value.slice(2).padStart(16, '0').match(/../g) ?? [])
    .reverse()
    .map((b) => parseInt(b, 16))
    .map((n) => (n >= 32 && n < 127 ? String.fromCharCode(n) : '·'))
    .join('')
}
</script>

<template>
  <form @submit.prevent="show(address.trim())">
    <el-input v-model="address" :aria-label="texts.memory.label" :placeholder="texts.memory.hint" />
    <el-button native-type="submit">{{ texts.memory.show }}</el-button>
    <el-button :disabled="!memory" @click="hold">{{ texts.memory.holders }}</el-button>
    <span v-if="memory" class="soft">{{ memory.what }}</span>
  </form>
  <p v-if="trouble" class="trouble" role="alert">{{ trouble }}</p>
  <template v-if="holders">
    <p class="soft">{{ texts.memory.held(holders.total, address) }}</p>
    <ul>
      <li v-for="w in holders.holders" :key="w.address">
        <button type="button" class="link mono" @click="show(w.address)">{{ w.address }}</button>
        <span>{{ w.what }}</span>
      </li>
    </ul>
  </template>
  <ul v-else-if="memory">
    <li v-for="w in memory.words" :key="w.address">
      <code>{{ w.address }}</code>
      <button v-if="w.what" type="button" class="link mono value" @click="show(w.value)">{{ w.value }}</button>
      <code v-else class="value">{{ w.value }}</code>
      <code class="soft characters">{{ characters(w.value) }}</code>
      <span>{{ w.what }}</span>
    </li>
    <li v-if="memory.why" class="soft">{{ memory.why }}</li>
  </ul>
  <p v-else class="soft">{{ texts.memory.none }}</p>
</template>

<style scoped>
form {
  display: flex;
  gap: 8px;
  align-items: center;
}
form .el-input {
  max-width: 300px;
}
ul {
  margin: 6px 0;
  padding: 0;
  list-style: none;
}
li {
  display: flex;
  gap: 16px;
  align-items: baseline;
  white-space: nowrap;
}
.value {
  min-width: 170px;
  text-align: right;
}
.characters {
  white-space: pre;
}
p {
  margin: 4px 0;
}
.trouble {
  color: var(--wrong);
}
</style>
