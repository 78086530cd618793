<script setup lang="ts">
import { computed, onMounted, ref, watch } from 'vue'
import type { Group, Invitation } from '../api/groups'
import { asked, peopleOfPage } from '../api/groups'
import type { Member } from '../api/service'
import { data, service } from '../api/service'
import { useSession } from '../stores/session'
import { useTrouble } from '../stores/trouble'
import { texts } from '../texts'

/** Who is in a case or a team, and the links by which people join it. */
const props = defineProps<{ group: Group; leads: boolean }>()
const emit = defineEmits<{ left: []; changed: [] }>()
type Role = 'lead' | 'member' | 'viewer'
const roles: Role[] = ['lead', 'member', 'viewer']
const trouble = useTrouble()
const session = useSession()
const members = ref<Member[]>([])
const mayBeMore = ref(false)
const everybody = ref<string[]>([])
const person = ref('')
const role = ref<Role>('member')
const links = ref<Invitation[]>([])
const made = ref('')
const leaving = ref(false)
const invited = ref({ role: 'member' as Role, days: 7, places: 1, unmasks: false, accounts: false })

const of = computed(() => asked(props.group))
const others = computed(() => everybody.value.filter((name) => !members.value.some((m) => m.name === name)))

async function load(after = '') {
  const page = await of.value.members(after)
  members.value = after ? [...members.value, ...page] : page
  mayBeMore.value = page.length === peopleOfPage
  if (!props.leads) return
  everybody.value = (await data(service.GET('/api/people'))).map((p) => p.name)
  links.value = await of.value.invitations()
}

/** Does something, and shows who is there then. */
function and(what: () => Promise<unknown>) {
  return trouble.attempt(async () => {
    await what()
    await load()
    emit('changed')
  })
}

function add() {
  return and(async () => {
    await of.value.change(person.value, { role: role.value })
    person.value = ''
  })
}

function remove(name: string) {
  if (name !== session.name) return and(() => of.value.remove(name))
  return trouble.attempt(async () => {
    await of.value.remove(name)
    emit('left')
  })
}

function invite() {
  return and(async () => {
    const x = await of.value.invite(invited.value)
    made.value = `${window.location.origin}/join#${x.secret}`
  })
}

function open() {
  made.value = ''
  return trouble.attempt(() => load())
}

onMounted(open)
watch([() => props.group.name, () => props.leads], open)
</script>

<template>
  <table>
    <thead>
      <tr>
        <th scope="col">{{ texts.people.person }}</th>
        <th scope="col">{{ texts.people.role }}</th>
        <th scope="col">{{ texts.people.unmasks }}</th>
        <th v-if="props.group.kind === 'case'" scope="col">{{ texts.people.by }}</th>
        <th scope="col"><span class="hidden">{{ texts.people.acts }}</span></th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="m in members" :key="m.name" :data-person="m.name">
        <td>{{ m.name }}</td>
        <td>
          <select v-if="props.leads" :value="m.role" :aria-label="texts.people.roleOf(m.name)" @change="and(() => of.change(m.name, { role: ($event.target as HTMLSelectElement).value as Role }))">
            <option v-for="r in roles" :key="r" :value="r">{{ r }}</option>
          </select>
          <span v-else>{{ m.role }}</span>
        </td>
        <td>
          <input v-if="props.leads" type="checkbox" :checked="m.unmasks" :aria-label="texts.people.unmasksOf(m.name)" @change="and(() => of.change(m.name, { role: m.role as Role, unmasks: ($event.target as HTMLInputElement).checked }))" />
          <span v-else>{{ m.unmasks ? texts.people.yes : '' }}</span>
        </td>
        <td v-if="props.group.kind === 'case'">{{ (m.teams ?? []).join(', ') }}</td>
        <td>
          <button v-if="props.leads && m.name !== session.name" type="button" class="plain" :aria-label="texts.people.removeOf(m.name)" @click="remove(m.name)">{{ texts.people.remove }}</button>
          <button v-if="m.name === session.name && !leaving" type="button" class="plain" @click="leaving = true">{{ texts.people.leave }}</button>
          <template v-if="m.name === session.name && leaving">
            <button type="button" class="plain" @click="remove(m.name)">{{ texts.people.leaveYes }}</button>
            <button type="button" class="plain" @click="leaving = false">{{ texts.people.stay }}</button>
          </template>
        </td>
      </tr>
    </tbody>
  </table>
  <p v-if="mayBeMore">
    <el-button @click="trouble.attempt(() => load(members[members.length - 1].name))">{{ texts.people.more }}</el-button>
  </p>
  <template v-if="props.leads">
    <form id="add-person" @submit.prevent="add">
      <el-select v-model="person" filterable :aria-label="texts.people.add" :placeholder="texts.people.addHint">
        <el-option v-for="name in others" :key="name" :value="name" :label="name" />
      </el-select>
      <select v-model="role" :aria-label="texts.people.addAs">
        <option v-for="r in roles" :key="r" :value="r">{{ r }}</option>
      </select>
      <el-button native-type="submit" :disabled="!person">{{ texts.people.add }}</el-button>
    </form>
    <h2>{{ texts.people.links }}</h2>
    <p class="soft">{{ texts.people.linksHint }}</p>
    <p v-if="made" id="link" role="status" class="made">
      {{ texts.people.link }} <code>{{ made }}</code>
    </p>
    <table v-if="links.length">
      <thead>
        <tr>
          <th scope="col">{{ texts.people.number }}</th>
          <th scope="col">{{ texts.people.role }}</th>
          <th scope="col">{{ texts.people.places }}</th>
          <th scope="col">{{ texts.people.made }}</th>
          <th scope="col">{{ texts.people.expires }}</th>
          <th scope="col"><span class="hidden">{{ texts.people.acts }}</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="x in links" :key="x.id">
          <td>{{ x.id }}</td>
          <td>{{ texts.people.gives(x.role, !!x.unmasks, !!x.accounts) }}</td>
          <td>{{ x.places }}</td>
          <td>{{ texts.people.madeBy(x.by, x.created) }}</td>
          <td>{{ new Date(x.expires).toLocaleString() }}</td>
          <td><button type="button" class="plain" :aria-label="texts.people.withdrawOf(x.id)" @click="and(() => of.withdraw(x.id))">{{ texts.people.withdraw }}</button></td>
        </tr>
      </tbody>
    </table>
    <form id="invite" @submit.prevent="invite">
      <select v-model="invited.role" :aria-label="texts.people.role">
        <option v-for="r in roles" :key="r" :value="r">{{ r }}</option>
      </select>
      <label><el-input-number v-model="invited.places" :min="1" :max="1000" :aria-label="texts.people.places" controls-position="right" /> {{ texts.people.placesHint }}</label>
      <label><el-input-number v-model="invited.days" :min="1" :max="90" :aria-label="texts.people.days" controls-position="right" /> {{ texts.people.daysHint }}</label>
      <label><input v-model="invited.unmasks" type="checkbox" /> {{ texts.people.unmasks }}</label>
      <label v-if="session.admin"><input v-model="invited.accounts" type="checkbox" /> {{ texts.people.accounts }}</label>
      <el-button native-type="submit">{{ texts.people.makeLink }}</el-button>
    </form>
  </template>
</template>
