<script setup lang="ts">
import { ref, watch } from 'vue'
import type { Format, Variable } from '../api/service'
import { useFrame } from '../stores/frame'
import { useSitting } from '../stores/sitting'
import ValueRow from './ValueRow.vue'
import { texts } from '../texts'

const here = useFrame()
const sitting = useSitting()
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

function write(as: Format) {
  if (sitting.state && here.isFormatShared) void sitting.tell({ format: as })
  else void here.write(as)
}
</script>

<template>
  <section :aria-label="texts.values.title">
    <h2>
      {{ texts.values.title }} <span class="soft">{{ texts.values.frame(here.place.frame) }}</span>
      <select class="format" :value="here.format" :aria-label="texts.values.format" @change="write(($event.target as HTMLSelectElement).value as Format)">
        <option v-for="(word, f) in texts.values.formats" :key="f" :value="f">{{ word }}</option>
      </select>
      <label v-if="sitting.state" class="all"><input v-model="here.isFormatShared" type="checkbox" /> {{ texts.values.forAll }}</label>
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
h2 .all {
  margin-left: 0;
}
.format {
  max-width: 120px;
  padding: 0;
  font-size: 13px;
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
