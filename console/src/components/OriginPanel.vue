<script setup lang="ts">
import { ref, watch } from 'vue'
import { useLookups } from '../stores/lookups'
import OriginNode from './OriginNode.vue'
import { texts } from '../texts'

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
    <el-input v-model="path" :aria-label="texts.origin.label" :placeholder="texts.origin.hint" />
    <el-button native-type="submit">{{ texts.origin.ask }}</el-button>
  </form>
  <p v-if="!lookups.origin" class="soft">{{ texts.origin.none }}</p>
  <ul v-else :aria-label="texts.origin.title">
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
