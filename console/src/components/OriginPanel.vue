<script setup lang="ts">
import { ref, watch } from 'vue'
import { useSitting } from '../stores/sitting'
import OriginNode from './OriginNode.vue'

const s = useSitting()
const path = ref('')

watch(
  () => s.origin,
  (o) => {
    if (o) path.value = o.asked.path
  },
)
</script>

<template>
  <form @submit.prevent="s.explain(path.trim())">
    <el-input v-model="path" aria-label="value to explain" placeholder="a variable, field or element of the frame, for example quay.Depth" />
    <el-button native-type="submit">Ask why</el-button>
  </form>
  <p v-if="!s.origin" class="soft">Name a value, or choose “why” beside one. Its writes are followed back to the inputs.</p>
  <ul v-else aria-label="Origin">
    <OriginNode :key="s.origin.name + s.origin.moment" :node="s.origin" :depth="0" />
  </ul>
</template>

<style scoped>
form {
  display: flex;
  gap: 8px;
  max-width: 760px;
}
ul {
  margin: 6px 0;
  padding: 0;
}
</style>
