<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import type { Variable } from '../api/service'
import { personColour } from '../source/people'
import { useCheckpoints } from '../stores/checkpoints'
import { useFrame } from '../stores/frame'
import { useLedger } from '../stores/ledger'
import { useLookups } from '../stores/lookups'
import { useSitting } from '../stores/sitting'
import { useTrouble } from '../stores/trouble'
import { texts } from '../texts'

const props = defineProps<{ value: Variable; types: boolean; was?: string }>()
const checkpoints = useCheckpoints()
const here = useFrame()
const ledger = useLedger()
const lookups = useLookups()
const sitting = useSitting()
const trouble = useTrouble()
const open = ref(false)
const parts = ref<Variable[]>([])
const page = 50

const known = computed(() => props.value.state === 'known')
/** The value's path, as questions take it. */
const name = computed(() => props.value.path)
/** Somebody else who is at this place and points at the value. */
const pointed = computed(() => sitting.pointers.find((p) => p.pointing?.kind === 'value' && p.pointing.at === name.value)?.name)
const changed = computed(() => props.was !== undefined && props.was !== props.value.value)

async function more(from: number) {
  await trouble.attempt(async () => {
    const got = await here.parts(props.value.path, from, page)
    parts.value = from ? [...parts.value, ...got.children] : got.children
  })
}

async function toggle() {
  open.value = !open.value
  if (open.value) await more(0)
}

watch(
  () => props.value,
  () => {
    if (open.value) void more(0)
  },
)
</script>

<template>
  <div class="value">
    <div class="row" :class="{ changed }" :data-name="name" :style="pointed ? { boxShadow: `inset 4px 0 ${personColour(pointed)}` } : undefined" :title="pointed ? texts.values.pointedBy(pointed) : undefined">
      <button v-if="value.count" type="button" :aria-expanded="open" :aria-label="texts.values.parts(value.name)" @click="toggle">{{ open ? '–' : '+' }}</button>
      <span v-else class="pad"></span>
      <button type="button" class="name" :aria-label="texts.values.pointAt(name)" @click="sitting.tell({ pointing: { kind: 'value', at: name } })"><code>{{ value.name }}</code></button>
      <code v-if="types" class="soft">{{ value.type }}</code>
      <span v-if="changed" class="delta" :title="texts.values.changed">Δ</span>
      <code v-if="known" class="text" :title="value.value">{{ value.value }}</code>
      <i v-else class="soft">{{ texts.values.states[value.state] }}{{ value.why ? `: ${value.why}` : '' }}</i>
      <span class="acts">
        <button type="button" :aria-label="texts.values.whyOf(name)" @click="lookups.explain(name)">{{ texts.values.why }}</button>
        <button type="button" :aria-label="texts.values.writesOf(name)" @click="checkpoints.watchWrites(name)">{{ texts.values.writes }}</button>
        <button type="button" :aria-label="texts.values.storyOf(name)" @click="lookups.tell(name, 0, 60)">{{ texts.values.story }}</button>
        <button type="button" :aria-label="texts.values.ledgerOf(name)" @click="ledger.addColumn(name)">{{ texts.values.ledger }}</button>
      </span>
      <button v-if="value.written >= 0" type="button" class="written" :title="texts.values.written(value.written)" @click="sitting.goTo(value.written)">@{{ value.written }}</button>
    </div>
    <div v-if="open" class="parts">
      <ValueRow v-for="p in parts" :key="p.name" :value="p" :types="types" />
      <button v-if="parts.length < value.count" type="button" class="more" @click="more(parts.length)">{{ texts.values.more(parts.length, value.count) }}</button>
    </div>
  </div>
</template>

<style scoped>
.row {
  position: relative;
  display: flex;
  gap: 7px;
  align-items: baseline;
  padding: 1px 12px;
}
.row:hover {
  background: var(--fog-1);
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
  width: 18px;
  min-width: 18px;
  font-family: var(--mono);
}
.row .name {
  font-weight: 600;
  color: var(--ink);
  white-space: nowrap;
}
.text {
  overflow: hidden;
  white-space: nowrap;
  text-overflow: ellipsis;
}
.changed .text {
  box-shadow: inset 0 -2px var(--now);
}
.delta {
  font-weight: 600;
  color: var(--now-text);
}
.written {
  margin-left: auto;
  font-size: 12px;
}
.acts {
  position: absolute;
  right: 76px;
  display: inline-flex;
  gap: 10px;
  padding: 0 8px;
  font-size: 12.5px;
  background: var(--fog-1);
  opacity: 0;
}
.row:hover .acts,
.acts:focus-within {
  opacity: 1;
}
.acts button {
  color: var(--now-text);
}
.parts {
  margin-left: 20px;
  border-left: 1px solid var(--fog-3);
}
.more {
  padding: 2px 34px;
  color: var(--now-text);
}
</style>
