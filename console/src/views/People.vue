<script setup lang="ts">
import { computed, onMounted, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import type { Case, Schemas } from '../api/service'
import { data, service } from '../api/service'
import PeopleOf from '../components/PeopleOf.vue'
import { useTrouble } from '../stores/trouble'
import { texts } from '../texts'

const props = defineProps<{ case: string }>()
const trouble = useTrouble()
const router = useRouter()
const about = ref<Case>()
const teams = ref<Schemas['CaseTeam'][]>([])
const mine = ref<string[]>([])
const team = ref('')
/** Changes when others come or go by a team. */
const turn = ref(0)

const path = computed(() => ({ case: props.case }))
const leads = computed(() => about.value?.role === 'lead')
const others = computed(() => mine.value.filter((name) => !teams.value.some((t) => t.name === name)))

async function load() {
  about.value = await data(service.GET('/api/cases/{case}', { params: { path: path.value } }))
  teams.value = await data(service.GET('/api/cases/{case}/teams', { params: { path: path.value } }))
  mine.value = (await data(service.GET('/api/teams'))).map((t) => t.name)
}

function add() {
  return trouble.attempt(async () => {
    await data(service.PUT('/api/cases/{case}/teams/{team}', { params: { path: { ...path.value, team: team.value } } }))
    team.value = ''
    turn.value++
    await load()
  })
}

function remove(name: string) {
  return trouble.attempt(async () => {
    await data(service.DELETE('/api/cases/{case}/teams/{team}', { params: { path: { ...path.value, team: name } } }))
    turn.value++
    await load()
  })
}

onMounted(() => trouble.attempt(load))
watch(() => props.case, () => trouble.attempt(load))
</script>

<template>
  <section class="sheet office">
    <h1>{{ texts.people.title }}</h1>
    <p class="soft">{{ about?.title ?? props.case }}</p>
    <p v-if="trouble.trouble" role="alert" class="trouble">{{ trouble.trouble }}</p>
    <p class="soft">{{ texts.people.roles }}</p>
    <PeopleOf v-if="about" :key="turn" :group="{ kind: 'case', name: props.case }" :leads="leads" @left="router.push({ name: 'cases' })" @changed="trouble.attempt(load)" />
    <h2>{{ texts.people.teams }}</h2>
    <p class="soft">{{ texts.people.teamsHint }}</p>
    <ul v-if="teams.length">
      <li v-for="t in teams" :key="t.name">
        {{ t.name }} <span class="soft">{{ texts.people.size(t.people) }}</span>
        <button v-if="leads" type="button" class="plain" :aria-label="texts.people.removeOf(t.name)" @click="remove(t.name)">{{ texts.people.remove }}</button>
      </li>
    </ul>
    <form v-if="leads && others.length" id="add-team" @submit.prevent="add">
      <select v-model="team" :aria-label="texts.people.team">
        <option value="">{{ texts.people.team }}</option>
        <option v-for="name in others" :key="name" :value="name">{{ name }}</option>
      </select>
      <el-button native-type="submit" :disabled="!team">{{ texts.people.addTeam }}</el-button>
    </form>
    <p v-if="leads && !mine.length">
      <RouterLink :to="{ name: 'teams' }">{{ texts.people.noTeams }}</RouterLink>
    </p>
  </section>
</template>
