<script setup lang="ts">
import { useDark, useToggle } from '@vueuse/core'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useSession } from './stores/session'
import { texts } from './texts'

const session = useSession()
const route = useRoute()
const router = useRouter()
const dark = useDark()
const toggleDark = useToggle(dark)

const caseName = computed(() => String(route.params.case ?? ''))

async function signOut() {
  await session.signOut()
  await router.push({ name: 'sign-in' })
}
</script>

<template>
  <div class="page">
    <nav v-if="session.name" class="rail" :aria-label="texts.app.main">
      <div class="mark" aria-hidden="true">
        <img src="/icon.svg" alt="" width="30" height="30" />
      </div>
      <RouterLink :to="{ name: 'cases' }" :class="{ here: route.name === 'cases' }">{{ texts.app.cases }}</RouterLink>
      <RouterLink :to="{ name: 'teams' }" :class="{ here: route.name === 'teams' }">{{ texts.app.teams }}</RouterLink>
      <RouterLink v-if="caseName" :to="{ name: 'evidence', params: { case: caseName } }" :class="{ here: route.name === 'evidence' }">{{ texts.app.evidence }}</RouterLink>
      <RouterLink v-if="caseName" :to="{ name: 'traces', params: { case: caseName } }" :class="{ here: route.name === 'traces' }">{{ texts.app.traces }}</RouterLink>
      <RouterLink v-if="caseName" :to="{ name: 'expectations', params: { case: caseName } }" :class="{ here: route.name === 'expectations' }">{{ texts.app.expectations }}</RouterLink>
      <RouterLink v-if="caseName" :to="{ name: 'compare', params: { case: caseName } }" :class="{ here: route.name === 'compare' }">{{ texts.app.compare }}</RouterLink>
      <RouterLink v-if="caseName" :to="{ name: 'notes', params: { case: caseName } }" :class="{ here: route.name === 'notes' }">{{ texts.app.notes }}</RouterLink>
      <RouterLink v-if="caseName" :to="{ name: 'notices', params: { case: caseName } }" :class="{ here: route.name === 'notices' }">{{ texts.app.notices }}</RouterLink>
      <RouterLink v-if="caseName" :to="{ name: 'people', params: { case: caseName } }" :class="{ here: route.name === 'people' }">{{ texts.app.people }}</RouterLink>
      <RouterLink v-if="caseName" :to="{ name: 'record', params: { case: caseName } }" :class="{ here: route.name === 'record' }">{{ texts.app.record }}</RouterLink>
      <span v-if="route.name === 'sitting'" class="here" aria-current="page">{{ texts.app.sitting }}</span>
      <div class="foot">
        <button type="button" @click="toggleDark()">{{ dark ? texts.app.light : texts.app.dark }}</button>
        <button type="button" @click="signOut">{{ texts.app.signOut }}</button>
        <RouterLink :to="{ name: 'account' }" class="who" :class="{ here: route.name === 'account' }" :title="texts.app.signedInAs(session.name)">{{ session.name }}</RouterLink>
      </div>
    </nav>
    <main>
      <RouterView />
    </main>
  </div>
</template>

<style scoped>
.page {
  display: flex;
  height: 100%;
}
main {
  flex: 1;
  min-width: 0;
  height: 100%;
  overflow: auto;
}
.rail {
  display: flex;
  flex-direction: column;
  width: 78px;
  background: var(--fog-2);
  border-right: 1px solid var(--fog-3);
  text-align: center;
  font-size: 13px;
}
.mark {
  padding: 10px 0 6px;
}
.rail a,
.rail > span {
  padding: 10px 4px;
  color: var(--ink);
  text-decoration: none;
  border-left: 4px solid transparent;
}
.rail .here {
  border-left-color: var(--now);
  background: var(--fog-0);
  font-weight: 600;
}
.foot {
  margin-top: auto;
  display: flex;
  flex-direction: column;
  gap: 2px;
  padding-bottom: 8px;
}
.foot button {
  border: 0;
  background: none;
  color: var(--ink-soft);
  font: inherit;
  padding: 6px;
  cursor: pointer;
}
.who {
  color: var(--ink);
  font-weight: 600;
  overflow: hidden;
  text-overflow: ellipsis;
}
</style>
