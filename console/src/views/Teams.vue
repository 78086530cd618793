<script setup lang="ts">
import { computed, onMounted, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import type { Schemas } from '../api/service'
import { data, service } from '../api/service'
import PeopleOf from '../components/PeopleOf.vue'
import { useTrouble } from '../stores/trouble'
import { texts } from '../texts'

const trouble = useTrouble()
const route = useRoute()
const router = useRouter()
const list = ref<Schemas['Team'][]>()
const name = ref('')
/** The team whose removal is to be confirmed. */
const doomed = ref('')

const chosen = computed(() => list.value?.find((t) => t.name === route.query.team))

async function load() {
  list.value = await data(service.GET('/api/teams'))
}

function make() {
  return trouble.attempt(async () => {
    const made = await data(service.POST('/api/teams', { body: { name: name.value.trim() } }))
    name.value = ''
    await load()
    await router.push({ query: { team: made.name } })
  })
}

function remove(team: string) {
  return trouble.attempt(async () => {
    await data(service.DELETE('/api/teams/{team}', { params: { path: { team } } }))
    doomed.value = ''
    await left()
  })
}

async function left() {
  await load()
  await router.push({ query: {} })
}

onMounted(() => trouble.attempt(load))
</script>

<template>
  <section class="sheet office">
    <h1>{{ texts.teams.title }}</h1>
    <p class="soft">{{ texts.teams.hint }}</p>
    <p v-if="trouble.trouble" role="alert" class="trouble">{{ trouble.trouble }}</p>
    <p v-if="list && !list.length">{{ texts.teams.none }}</p>
    <table v-if="list?.length">
      <thead>
        <tr>
          <th scope="col">{{ texts.teams.team }}</th>
          <th scope="col">{{ texts.teams.role }}</th>
          <th scope="col">{{ texts.teams.people }}</th>
          <th scope="col">{{ texts.teams.cases }}</th>
          <th scope="col"><span class="hidden">{{ texts.people.acts }}</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="t in list" :key="t.name" :class="{ chosen: chosen === t }">
          <td><RouterLink :to="{ query: { team: t.name } }">{{ t.name }}</RouterLink></td>
          <td>{{ t.role }}</td>
          <td>{{ t.people }}</td>
          <td>{{ t.cases }}</td>
          <td>
            <button v-if="t.role === 'lead' && doomed !== t.name" type="button" class="plain" :aria-label="texts.people.removeOf(t.name)" @click="doomed = t.name">{{ texts.people.remove }}</button>
            <template v-if="doomed === t.name">
              {{ texts.teams.sure }}
              <button type="button" class="plain" @click="remove(t.name)">{{ texts.teams.yes }}</button>
              <button type="button" class="plain" @click="doomed = ''">{{ texts.teams.keep }}</button>
            </template>
          </td>
        </tr>
      </tbody>
    </table>
    <form id="new-team" @submit.prevent="make">
      <el-input v-model="name" :aria-label="texts.teams.name" :placeholder="texts.teams.nameHint" />
      <el-button native-type="submit" :disabled="!name.trim()">{{ texts.teams.make }}</el-button>
    </form>
    <template v-if="chosen">
      <h2>{{ texts.teams.peopleOf(chosen.name) }}</h2>
      <PeopleOf :group="{ kind: 'team', name: chosen.name }" :leads="chosen.role === 'lead'" @left="trouble.attempt(left)" @changed="trouble.attempt(load)" />
    </template>
  </section>
</template>

<style scoped>
.chosen td:first-child {
  border-left: 4px solid var(--now);
}
</style>
