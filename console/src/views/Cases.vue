<script setup lang="ts">
import { onMounted, ref } from 'vue'
import { useRouter } from 'vue-router'
import type { Case } from '../api/service'
import { data, service, words } from '../api/service'

const router = useRouter()
const cases = ref<Case[]>()
const trouble = ref('')
const name = ref('')
const title = ref('')

async function load() {
  try {
    cases.value = await data(service.GET('/api/cases'))
  } catch (e) {
    trouble.value = words(e)
  }
}

async function open() {
  trouble.value = ''
  try {
    const c = await data(service.POST('/api/cases', { body: { name: name.value.trim(), title: title.value.trim() || name.value.trim() } }))
    await router.push({ name: 'evidence', params: { case: c.name } })
  } catch (e) {
    trouble.value = words(e)
  }
}

onMounted(load)
</script>

<template>
  <section class="sheet">
    <h1>Cases</h1>
    <p v-if="trouble" role="alert" class="trouble">{{ trouble }}</p>
    <p v-if="cases && !cases.length">You are in no case yet. Open one below, or ask the person who leads one to add you.</p>
    <ul v-if="cases?.length">
      <li v-for="c in cases" :key="c.name">
        <RouterLink :to="{ name: 'evidence', params: { case: c.name } }">{{ c.title }}</RouterLink>
        <code>{{ c.name }}</code>
        <span class="soft">you: {{ c.role }}</span>
        <span class="soft">{{ c.members.map((m) => `${m.name} (${m.role})`).join(', ') }}</span>
        <time class="soft" :datetime="c.created">opened {{ new Date(c.created).toLocaleString() }}</time>
      </li>
    </ul>
    <h2>Open a case</h2>
    <form @submit.prevent="open">
      <div><label for="case-name">Short name, for links</label><el-input id="case-name" v-model="name" placeholder="lower-case letters, digits, hyphens" /></div>
      <div><label for="case-title">What it is about</label><el-input id="case-title" v-model="title" /></div>
      <el-button native-type="submit" type="primary" :disabled="!name.trim()">Open the case</el-button>
    </form>
  </section>
</template>

<style scoped>
.sheet {
  max-width: 980px;
  padding: 18px 28px;
}
ul {
  list-style: none;
  padding: 0;
  border-top: 1px solid var(--fog-3);
}
li {
  display: grid;
  grid-template-columns: 1.6fr 1fr auto 1.6fr auto;
  gap: 18px;
  align-items: baseline;
  padding: 12px 8px;
  background: var(--fog-0);
  border-bottom: 1px solid var(--fog-3);
}
li a {
  font-size: 17px;
  font-weight: 600;
}
h2 {
  margin-top: 34px;
  font-size: 17px;
}
form {
  display: flex;
  gap: 14px;
  align-items: end;
}
form div {
  flex: 1;
}
.trouble {
  color: var(--wrong);
}
</style>
