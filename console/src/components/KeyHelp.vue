<script setup lang="ts">
import { texts } from '../texts'
</script>

<template>
  <dl :aria-label="texts.keys.title">
    <div v-for="[key, meaning] in texts.keys.list" :key="key"><dt>{{ key }}</dt><dd>{{ meaning }}</dd></div>
  </dl>
</template>

<style scoped>
dl {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 26px;
  margin: 0;
  padding: 8px 14px;
  background: var(--fog-0);
  border-bottom: 1px solid var(--fog-3);
}
div {
  display: flex;
  gap: 8px;
}
dt {
  font-family: var(--mono);
  font-weight: 600;
}
dd {
  margin: 0;
}
</style>
