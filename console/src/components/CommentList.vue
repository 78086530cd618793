<script setup lang="ts">
import { computed, ref } from 'vue'
import type { Comment } from '../api/service'
import { useKept } from '../stores/kept'
import { useSession } from '../stores/session'
import { texts } from '../texts'
import PersonBadge from './PersonBadge.vue'

const props = defineProps<{ list: Comment[]; case: string }>()
const kept = useKept()
const session = useSession()
const answering = ref(0)
const editing = ref(0)
const text = ref('')

/** Comments with their answers, which come after them; an answer to a comment that is not shown stands for itself. */
const threads = computed(() => {
  const shown = new Set(props.list.map((c) => c.id))
  return props.list.filter((c) => !c.parent || !shown.has(c.parent)).map((c) => ({ ...c, answers: props.list.filter((x) => root(x) === c.id && x.id !== c.id) }))
})

/** The first comment of a thread. */
function root(c: Comment): number {
  const parent = c.parent ? props.list.find((x) => x.id === c.parent) : undefined
  return parent ? root(parent) : c.id
}

function answer(c: Comment) {
  answering.value = c.id
  editing.value = 0
  text.value = ''
}

function change(c: Comment) {
  editing.value = c.id
  answering.value = 0
  text.value = c.text
}

async function submit(c: Comment) {
  const done = editing.value ? await kept.edit(editing.value, text.value) : await kept.say(text.value, c.anchor, answering.value)
  if (done) answering.value = editing.value = 0
}
</script>

<template>
  <ol class="threads">
    <li v-for="thread in threads" :key="thread.id">
      <article v-for="c in [thread, ...thread.answers]" :key="c.id" :class="{ answer: c.id !== thread.id }" :id="`comment-${c.id}`" :data-comment="c.id">
        <header>
          <PersonBadge :name="c.by" />
          <b>{{ c.by }}</b> <time class="soft" :datetime="c.created">{{ new Date(c.created).toLocaleString() }}</time>
          <span v-if="c.edited" class="soft">{{ texts.notes.edited(c.edited) }}</span>
          <RouterLink v-if="c.anchor.evidence && c.anchor.moment !== undefined" :to="{ name: 'sitting', params: { case: props.case, evidence: c.anchor.evidence }, query: { moment: String(c.anchor.moment), thread: c.anchor.thread ?? '', frame: String(c.anchor.frame ?? 0) } }">{{ texts.notes.about(c.anchor) }}</RouterLink>
          <span v-else class="soft">{{ texts.notes.about(c.anchor) }}</span>
        </header>
        <i v-if="c.deleted" class="soft">{{ texts.notes.deleted }}</i>
        <!-- The service renders Markdown as safe HTML (service/markdown). -->
        <!-- eslint-disable-next-line vue/no-v-html -->
        <div v-else-if="editing !== c.id" class="said" v-html="c.html"></div>
        <form v-if="answering === c.id || editing === c.id" @submit.prevent="submit(c)">
          <el-input v-model="text" type="textarea" :rows="2" :aria-label="texts.notes.text" />
          <el-button native-type="submit" size="small" :disabled="!text.trim()">{{ texts.notes.submit }}</el-button>
          <el-button size="small" @click="answering = editing = 0">{{ texts.notes.cancel }}</el-button>
        </form>
        <p v-else-if="!c.deleted" class="acts">
          <button type="button" @click="answer(c)">{{ texts.notes.answer }}</button>
          <template v-if="c.by === session.name">
            <button type="button" @click="change(c)">{{ texts.notes.edit }}</button>
            <button type="button" @click="kept.unsay(c.id)">{{ texts.notes.delete }}</button>
          </template>
        </p>
      </article>
    </li>
  </ol>
</template>

<style scoped>
article:target {
  outline: 2px solid var(--now);
}
.threads {
  display: flex;
  flex-direction: column-reverse;
  margin: 0;
  padding: 0;
  list-style: none;
}
article {
  padding: 8px 12px 4px;
  background: var(--fog-0);
  border-bottom: 1px solid var(--fog-2);
}
.answer {
  margin-left: 28px;
  border-left: 3px solid var(--fog-3);
}
header {
  display: flex;
  gap: 8px;
  align-items: baseline;
}
.said {
  overflow-wrap: anywhere;
}
.said :deep(p) {
  margin: 4px 0;
}
.said :deep(pre) {
  padding: 6px 10px;
  overflow-x: auto;
  background: var(--fog-1);
}
.acts {
  display: flex;
  gap: 12px;
  margin: 0;
}
.acts button {
  padding: 0;
  font: inherit;
  font-size: 13px;
  color: var(--now-text);
  background: none;
  border: 0;
  cursor: pointer;
}
form {
  display: flex;
  gap: 8px;
  align-items: end;
}
</style>
