<script setup lang="ts">
import { computed, ref } from 'vue'
import type { Origin } from '../api/service'
import { useLookups } from '../stores/lookups'
import { useSitting } from '../stores/sitting'
import { texts } from '../texts'

const props = defineProps<{ node: Origin; depth: number }>()
const lookups = useLookups()
const sitting = useSitting()
const folded = ref(props.depth > 14)

const leads = computed(() => props.node.kind !== 'constant' && props.node.kind !== 'input')
</script>

<template>
  <li :data-origin="node.name" :data-line="node.line">
    <div class="row">
      <button v-if="node.from.length" type="button" :aria-expanded="!folded" :aria-label="texts.origin.from(node.name)" @click="folded = !folded">{{ folded ? '+' : '–' }}</button>
      <span v-else class="pad"></span>
      <code class="name">{{ node.name }}</code>
      <code v-if="node.value && node.value !== node.name" class="text" :title="node.value">{{ node.value }}</code>
      <span class="soft">{{ texts.origin.kinds[node.kind] ?? node.kind }}<template v-if="node.note">: {{ node.note }}</template><template v-if="node.left">{{ texts.origin.cut }}</template></span>
      <button v-if="leads" type="button" class="place mono" :title="texts.origin.place(node.function, node.moment)" @click="sitting.go({ moment: node.moment, thread: node.thread, frame: 0 }, texts.origin.goneTo(node.name))">
        {{ node.file }}:{{ node.line }} @{{ node.moment }}
      </button>
      <button v-if="node.more" type="button" class="place" @click="lookups.explain(node.asked.path, { moment: node.asked.moment, thread: node.asked.thread, frame: node.asked.frame })">{{ texts.origin.more }}</button>
    </div>
    <ul v-if="!folded && node.from.length">
      <OriginNode v-for="(n, i) in node.from" :key="i" :node="n" :depth="depth + 1" />
    </ul>
  </li>
</template>

<style scoped>
li {
  list-style: none;
}
ul {
  margin: 0 0 0 8px;
  padding: 0 0 0 10px;
  border-left: 1px solid var(--fog-3);
}
.row {
  display: flex;
  gap: 7px;
  align-items: baseline;
  white-space: nowrap;
}
button {
  padding: 0;
  font: inherit;
  color: var(--ink-soft);
  background: none;
  border: 0;
  cursor: pointer;
}
.row > button:first-child,
.pad {
  width: 16px;
  min-width: 16px;
  font-family: var(--mono);
}
.name {
  font-weight: 600;
}
.text {
  max-width: 420px;
  overflow: hidden;
  text-overflow: ellipsis;
}
.place {
  font-size: 12.5px;
  color: var(--now-text);
}
</style>
