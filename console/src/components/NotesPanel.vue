<script setup lang="ts">
import { computed, ref } from 'vue'
import { useEvidence } from '../stores/evidence'
import { useFrame } from '../stores/frame'
import { useKept } from '../stores/kept'
import { texts } from '../texts'
import CommentList from './CommentList.vue'
import ExhibitCard from './ExhibitCard.vue'

const evidence = useEvidence()
const here = useFrame()
const kept = useKept()
const question = ref<'values' | 'stack' | 'ask' | 'origin'>('values')
const argument = ref('')
const note = ref('')
const said = ref('')
const about = ref('')

const needsArgument = computed(() => question.value === 'ask' || question.value === 'origin')
const exhibits = computed(() => kept.exhibits.filter((x) => x.evidence === evidence.name).reverse())
const comments = computed(() => kept.comments.filter((c) => c.anchor.evidence === evidence.name))

async function keep() {
  const argued = question.value === 'ask' ? { expression: argument.value.trim() } : question.value === 'origin' ? { path: argument.value.trim() } : {}
  if (await kept.keep(evidence.name, question.value, { ...here.place, ...argued }, note.value.trim())) note.value = argument.value = ''
}

async function say() {
  const { moment, thread, frame } = here.place
  if (await kept.say(said.value, { evidence: evidence.name, moment, thread, frame, path: about.value.trim() || undefined })) said.value = about.value = ''
}
</script>

<template>
  <div class="two">
    <section :aria-label="texts.notes.exhibits">
      <form @submit.prevent="keep">
        <select v-model="question" :aria-label="texts.notes.what">
          <option v-for="(word, q) in texts.notes.questions" :key="q" :value="q">{{ word }}</option>
        </select>
        <el-input v-if="needsArgument" v-model="argument" :aria-label="texts.notes.argument" :placeholder="texts.notes.argumentHint" />
        <el-input id="keep-note" v-model="note" :aria-label="texts.notes.note" :placeholder="texts.notes.noteHint" />
        <el-button native-type="submit" type="primary" :disabled="needsArgument && !argument.trim()">{{ texts.notes.keep }}</el-button>
      </form>
      <p v-if="!exhibits.length" class="soft">{{ texts.notes.noExhibits }}</p>
      <ExhibitCard v-for="x in exhibits" :key="x.id" :exhibit="x" :case="evidence.caseName" may-work @drop="kept.drop(x.id)" />
    </section>
    <section :aria-label="texts.notes.comments">
      <form @submit.prevent="say">
        <el-input v-model="said" type="textarea" :rows="1" autosize :aria-label="texts.notes.text" :placeholder="texts.notes.textHint(here.place.moment)" />
        <el-input v-model="about" :aria-label="texts.notes.path" :placeholder="texts.notes.pathHint" class="short" />
        <el-button native-type="submit" :disabled="!said.trim()">{{ texts.notes.submit }}</el-button>
      </form>
      <CommentList :list="comments" :case="evidence.caseName" />
    </section>
  </div>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 22px;
}
section {
  display: flex;
  flex-direction: column;
  gap: 8px;
  min-width: 0;
}
form {
  display: flex;
  gap: 8px;
  align-items: start;
}
.short {
  max-width: 150px;
}
</style>
