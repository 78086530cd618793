<script setup lang="ts">
import { ref, watch } from 'vue'
import { useLookups } from '../stores/lookups'
import OriginNode from './OriginNode.vue'

const lookups = useLookups()
const path = ref('')

watch(
  () => lookups.origin,
  (o) => {
    if (o) path.value = o.asked.path
  },
)
</script>

<template>
  <form @submit.prevent="lookups.explain(path.trim())">
    <el-input v-model="path" aria-label="value to explain" placeholder="a variable, field or element of the frame, for example quay.Depth" />
    <el-button native-type="submit">Ask why</el-button>
  </form>
  <p v-if="!lookups.origin" class="soft">Name a value, or choose “why” beside one. Its writes are followed back to the inputs.</p>
  <ul v-else aria-label="Origin">
    <OriginNode :key="lookups.origin.name + lookups.origin.moment" :node="lookups.origin" :depth="0" />
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
