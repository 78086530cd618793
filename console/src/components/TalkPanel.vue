<script setup lang="ts">
import { computed, ref } from 'vue'
import type { SittingStep } from '../api/service'
import { useSitting } from '../stores/sitting'
import { texts } from '../texts'
import PersonBadge from './PersonBadge.vue'

const sitting = useSitting()
const said = ref('')
const moves = ref(true)
/** The step that is played back; its ID. */
const at = ref<number>()

const list = computed(() => sitting.steps.filter((s) => moves.value || s.kind === 'say'))

async function say() {
  const text = said.value.trim()
  if (!text) return
  await sitting.say(text)
  said.value = ''
}

function goTo(s: SittingStep) {
  at.value = s.id
  void sitting.go({ ...s.place }, texts.talk.played(s.by, new Date(s.at)))
}

/** Plays the sitting back by one step that went somewhere or said something. */
function play(by: 1 | -1) {
  const places = list.value.filter((s) => s.kind === 'move' || s.kind === 'say')
  const now = places.findIndex((s) => s.id === at.value)
  const next = now < 0 ? (by > 0 ? 0 : places.length - 1) : now + by
  if (places[next]) goTo(places[next])
}
</script>

<template>
  <form @submit.prevent="say">
    <el-input v-model="said" :aria-label="texts.talk.say" :placeholder="texts.talk.hint" maxlength="2000" />
    <el-button native-type="submit" :disabled="!said.trim()">{{ texts.talk.submit }}</el-button>
    <label><input v-model="moves" type="checkbox" /> {{ texts.talk.moves }}</label>
    <el-button id="play-earlier" @click="play(-1)">{{ texts.talk.earlier }}</el-button>
    <el-button id="play-later" @click="play(1)">{{ texts.talk.later }}</el-button>
  </form>
  <p v-if="!list.length" class="soft">{{ texts.talk.none }}</p>
  <ol :aria-label="texts.talk.title">
    <li v-for="s in list" :key="s.id" :class="{ played: s.id === at, said: s.kind === 'say' }" :data-step="s.kind">
      <time class="soft" :datetime="s.at">{{ new Date(s.at).toLocaleTimeString() }}</time>
      <PersonBadge :name="s.by" />
      <span>{{ s.by }} {{ texts.talk.did[s.kind](s.text ?? '') }}</span>
      <button type="button" @click="goTo(s)">@{{ s.place.moment }}</button>
    </li>
  </ol>
</template>

<style scoped>
form {
  display: flex;
  gap: 8px;
  align-items: center;
  max-width: 1000px;
}
label {
  white-space: nowrap;
}
ol {
  display: flex;
  flex-direction: column-reverse;
  margin: 8px 0 0;
  padding: 0;
  list-style: none;
}
li {
  display: flex;
  gap: 10px;
  align-items: baseline;
  padding: 1px 0 1px 8px;
  border-left: 3px solid transparent;
}
.played {
  border-left-color: var(--now);
}
.said span:nth-of-type(2) {
  font-weight: 600;
  overflow-wrap: anywhere;
}
button {
  padding: 0;
  font: inherit;
  color: var(--now-text);
  background: none;
  border: 0;
  cursor: pointer;
}
</style>
