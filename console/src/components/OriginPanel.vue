<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import type { Origin } from '../api/service'
import { useLookups } from '../stores/lookups'
import OriginNode from './OriginNode.vue'
import { texts } from '../texts'

const lookups = useLookups()
const path = ref('')

/** How many values the chain does not show. */
function leftOut(o: Origin): number {
  return (o.left ?? 0) + o.from.reduce((n, x) => n + leftOut(x), 0)
}
const left = computed(() => (lookups.origin ? leftOut(lookups.origin) : 0))

function all() {
  const o = lookups.origin
  if (o) void lookups.explain(o.asked.path, { moment: o.asked.moment, thread: o.asked.thread, frame: o.asked.frame }, true)
}

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
  <p v-if="left" class="soft">
    {{ texts.origin.left(left) }} <button type="button" class="link" @click="all">{{ texts.origin.all }}</button>
  </p>
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
