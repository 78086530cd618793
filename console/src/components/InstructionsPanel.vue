<script setup lang="ts">
import { ref, watch } from 'vue'
import type { Instructions } from '../api/service'
import { data, service, words } from '../api/service'
import { useEvidence } from '../stores/evidence'
import { useFrame } from '../stores/frame'

const evidence = useEvidence()
const here = useFrame()
const list = ref<Instructions>()
const trouble = ref('')

watch(
  () => here.place,
  async (p) => {
    try {
      trouble.value = ''
      const query = { moment: p.moment, thread: p.thread, frame: p.frame, before: 8, after: 8 }
      list.value = await data(service.GET('/api/cases/{case}/evidence/{evidence}/instructions', { params: { path: evidence.path, query } }))
    } catch (e) {
      list.value = undefined
      trouble.value = words(e)
    }
  },
  { immediate: true },
)
</script>

<template>
  <p v-if="trouble" class="trouble" role="alert">{{ trouble }}</p>
  <table v-if="list">
    <tbody>
      <tr v-for="x in list.instructions" :key="x.address" :class="{ now: x.here }">
        <td class="soft">{{ x.where }}</td>
        <td>{{ x.text }}<div v-for="o in x.operands" :key="o" class="soft">{{ o }}</div></td>
        <td class="soft">{{ x.bytes }}</td>
        <td class="soft">{{ x.address }}</td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
table {
  font-family: var(--mono);
  font-size: 13px;
  border-collapse: collapse;
}
td {
  padding: 1px 14px 1px 8px;
  white-space: nowrap;
  vertical-align: top;
}
.now {
  background: var(--now-wash);
  box-shadow: inset 4px 0 var(--now);
}
.trouble {
  color: var(--wrong);
}
</style>
