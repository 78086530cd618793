<script setup lang="ts">
import { ref, watch } from 'vue'
import type { Variable } from '../api/service'
import { useFrame } from '../stores/frame'
import ValueRow from './ValueRow.vue'
import { texts } from '../texts'

const here = useFrame()
const types = ref(false)
const groups = ref<{ scope: string; list: Variable[] }[]>([])

watch(
  () => here.values,
  (list) => {
    groups.value = Object.keys(texts.values.scopes)
      .map((scope) => ({ scope, list: list.filter((v) => v.scope === scope) }))
      .filter((g) => g.list.length)
  },
  { immediate: true },
)
</script>

<template>
  <section :aria-label="texts.values.title">
    <h2>
      {{ texts.values.title }} <span class="soft">{{ texts.values.frame(here.place.frame) }}</span>
      <label><input v-model="types" type="checkbox" /> {{ texts.values.types }}</label>
    </h2>
    <p v-if="!groups.length" class="soft">{{ texts.values.none }}</p>
    <div v-for="g in groups" :key="g.scope">
      <h3>{{ texts.values.scopes[g.scope] }}</h3>
      <ValueRow v-for="v in g.list" :key="v.name" :value="v" :types="types" :was="here.before.get(v.name)" />
    </div>
  </section>
</template>

<style scoped>
section {
  flex: 1;
  min-height: 0;
  padding-bottom: 8px;
  overflow: auto;
  background: var(--fog-0);
}
h2 {
  display: flex;
  gap: 8px;
  align-items: center;
  margin: 0;
  padding: 5px 12px;
  font-size: 14px;
}
h2 label {
  margin-left: auto;
  font-weight: 400;
}
h3 {
  margin: 0;
  padding: 3px 12px 1px;
  font-size: 12px;
  font-weight: 400;
  color: var(--ink-soft);
}
p {
  margin: 0;
  padding: 4px 12px;
}
</style>
