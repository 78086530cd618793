<script setup lang="ts">
import { computed, ref } from 'vue'
import { useFrame } from '../stores/frame'
import type { Missing } from '../stores/lookups'
import { useLookups } from '../stores/lookups'
import { useSitting } from '../stores/sitting'
import { texts } from '../texts'

const here = useFrame()
const lookups = useLookups()
const sitting = useSitting()
const kind = ref<'line' | 'write' | 'enter'>('line')
const what = ref('')

const line = computed(() => here.frame?.line ?? 0)

function missed() {
  const text = what.value.trim()
  if (!text) return
  const wanted = kind.value === 'line' && /^\d+$/.test(text) ? `${here.file}:${text}` : text
  void lookups.missed({ [kind.value]: wanted } as Missing)
}
</script>

<template>
  <form @submit.prevent="missed">
    <el-button id="reached" type="button" @click="lookups.reached()">{{ texts.line.reached(line) }}</el-button>
    <span class="soft">{{ texts.line.or }}</span>
    <el-select v-model="kind" :aria-label="texts.line.kind" class="kind">
      <el-option v-for="(label, k) in texts.line.kinds" :key="k" :value="k" :label="label" />
    </el-select>
    <el-input v-model="what" :aria-label="texts.line.what" :placeholder="texts.line.hints[kind]" class="what" />
    <el-button native-type="submit">{{ texts.line.missed }}</el-button>
  </form>
  <p v-if="!lookups.conditions" class="soft">{{ texts.line.none }}</p>
  <template v-else>
    <p v-if="lookups.conditions.note" class="soft">
      {{ lookups.conditions.note }}
      <button v-if="lookups.conditions.happened >= 0" type="button" class="link mono" @click="sitting.goTo(lookups.conditions.happened)">@{{ lookups.conditions.happened }}</button>
    </p>
    <ol :aria-label="lookups.missing ? texts.line.turned : texts.line.decided">
      <li v-for="(c, i) in lookups.conditions.conditions" :key="i">
        <button type="button" class="link mono" @click="sitting.go({ moment: c.moment, thread: c.thread, frame: 0 }, texts.line.goneTo)">@{{ c.moment }}</button>
        <code class="name">{{ c.expression }}</code>
        <b>{{ texts.line.was(c.value, c.times) }}</b>
        <span v-if="c.role === 'exit'" class="soft">{{ lookups.missing ? texts.line.left : texts.line.stayed }}</span>
        <span v-for="o in c.operands" :key="o.name" class="operand">
          <code>{{ o.name }} = {{ o.value }}</code>
          <button v-if="o.path && o.at >= 0" type="button" class="link" :aria-label="texts.values.whyOf(o.name)" @click="lookups.explain(o.path, { moment: o.at, thread: c.thread, frame: 0 })">{{ texts.values.why }}</button>
        </span>
        <span class="soft mono">{{ c.file }}:{{ c.line }} {{ c.function }}</span>
      </li>
    </ol>
  </template>
</template>

<style scoped>
form {
  display: flex;
  gap: 10px;
  align-items: center;
}
.kind {
  width: 190px;
}
.what {
  max-width: 340px;
}
ol {
  margin: 6px 0;
  padding: 0;
  list-style: none;
}
li {
  display: flex;
  gap: 12px;
  align-items: baseline;
  padding: 1px 0;
  white-space: nowrap;
}
.name {
  font-weight: 600;
}
.operand {
  display: inline-flex;
  gap: 5px;
  align-items: baseline;
}
.operand code {
  max-width: 340px;
  overflow: hidden;
  text-overflow: ellipsis;
  vertical-align: bottom;
}
</style>
