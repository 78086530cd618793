<script setup lang="ts">
import { onMounted, ref } from 'vue'
import { useRouter } from 'vue-router'
import type { Case } from '../api/service'
import { data, service, words } from '../api/service'
import { texts } from '../texts'

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
    <h1>{{ texts.cases.title }}</h1>
    <p v-if="trouble" role="alert" class="trouble">{{ trouble }}</p>
    <p v-if="cases && !cases.length">{{ texts.cases.none }}</p>
    <ul v-if="cases?.length">
      <li v-for="c in cases" :key="c.name">
        <RouterLink :to="{ name: 'evidence', params: { case: c.name } }">{{ c.title }}</RouterLink>
        <code>{{ c.name }}</code>
        <span class="soft">{{ texts.cases.role(c.role) }}</span>
        <span class="soft">{{ texts.cases.members(c.members) }}</span>
        <time class="soft" :datetime="c.created">{{ texts.cases.opened(c.created) }}</time>
      </li>
    </ul>
    <h2>{{ texts.cases.open }}</h2>
    <form @submit.prevent="open">
      <div><label for="case-name">{{ texts.cases.name }}</label><el-input id="case-name" v-model="name" :placeholder="texts.cases.nameHint" /></div>
      <div><label for="case-title">{{ texts.cases.about }}</label><el-input id="case-title" v-model="title" /></div>
      <el-button native-type="submit" type="primary" :disabled="!name.trim()">{{ texts.cases.submit }}</el-button>
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
