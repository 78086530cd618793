<script setup lang="ts">
import { computed } from 'vue'
import type { Mode } from '../api/service'
import { useSitting } from '../stores/sitting'
import { texts } from '../texts'
import PersonBadge from './PersonBadge.vue'

const sitting = useSitting()
const here = computed(() => sitting.state?.here ?? [])
const mine = computed(() => here.value.find((p) => p.name === sitting.me))
const modes: Mode[] = ['lead', 'follow', 'roam']
</script>

<template>
  <div class="who">
    <ul :aria-label="texts.who.title">
      <li v-for="p in here" :key="p.name" :data-person="p.name">
        <PersonBadge :name="p.name" />
        {{ p.name }} <span class="soft" :title="p.pointing ? texts.who.points(p.pointing.at) : undefined">{{ p.mode === 'lead' ? texts.who.leads : p.mode === 'follow' ? texts.who.follows : texts.who.roams(p.place.moment) }}<template v-if="p.asks">, {{ texts.who.asks }}</template></span>
        <button v-if="p.asks && sitting.mode === 'lead'" type="button" class="act" @click="sitting.tell({ handTo: p.name })">{{ texts.who.hand(p.name) }}</button>
      </li>
    </ul>
    <span v-if="sitting.state && !sitting.state.leader" class="soft" role="status">{{ texts.who.nobody }} <button v-if="mine?.mayLead" type="button" class="act" @click="sitting.setMode('lead')">{{ texts.who.take }}</button></span>
    <span v-else-if="sitting.state?.away" class="soft" role="status">{{ texts.who.away(sitting.state.leader!) }}</span>
    <button v-else-if="mine?.mayLead && sitting.mode !== 'lead'" type="button" class="act" @click="sitting.tell({ asks: !mine.asks })">{{ mine.asks ? texts.who.withdraw : texts.who.ask }}</button>
    <span class="modes" role="radiogroup" :aria-label="texts.who.mode">
      <button v-for="m in modes" :id="`mode-${m}`" :key="m" type="button" role="radio" :aria-checked="sitting.mode === m" :title="texts.who.modes[m].hint" @click="sitting.setMode(m)">{{ texts.who.modes[m].text }}</button>
    </span>
  </div>
</template>

<style scoped>
.who,
ul {
  display: flex;
  gap: 14px;
  align-items: center;
  margin: 0;
  padding: 0;
  list-style: none;
  white-space: nowrap;
}
.modes {
  display: inline-flex;
}
button {
  padding: 2px 10px;
  font: inherit;
  font-size: 14px;
  color: var(--ink);
  background: var(--fog-0);
  border: 1px solid var(--fog-3);
  cursor: pointer;
}
.act {
  padding: 0 4px;
  color: var(--now-text);
  background: none;
  border: 0;
}
.modes button + button {
  border-left: 0;
}
button[aria-checked='true'] {
  font-weight: 600;
  color: var(--now-text);
  box-shadow: inset 0 -3px var(--now);
}
</style>
