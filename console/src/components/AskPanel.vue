<script setup lang="ts">
import { ref } from 'vue'
import { words } from '../api/service'
import { useFrame } from '../stores/frame'
import { texts } from '../texts'

const here = useFrame()
const expression = ref('')
const answers = ref<{ expression: string; moment: number; text: string; type: string; wrong: boolean }[]>([])

async function ask() {
  const asked = expression.value.trim()
  if (!asked) return
  const at = { expression: asked, moment: here.place.moment }
  try {
    const a = await here.ask(asked)
    answers.value.unshift({ ...at, text: a.value, type: a.type, wrong: false })
  } catch (e) {
    answers.value.unshift({ ...at, text: words(e), type: '', wrong: true })
  }
}
</script>

<template>
  <form @submit.prevent="ask">
    <el-input v-model="expression" :aria-label="texts.ask.label" :placeholder="texts.ask.hint" />
    <el-button native-type="submit">{{ texts.ask.ask }}</el-button>
  </form>
  <ul>
    <li v-for="(a, i) in answers" :key="i">
      <code>{{ a.expression }}</code> <span class="soft">{{ texts.ask.at(a.moment) }}</span> =
      <code :class="{ wrong: a.wrong }">{{ a.text }}</code> <code class="soft">{{ a.type }}</code>
    </li>
  </ul>
</template>

<style scoped>
form {
  display: flex;
  gap: 8px;
  max-width: 760px;
}
ul {
  padding: 0;
  list-style: none;
}
.wrong {
  color: var(--wrong);
}
</style>
