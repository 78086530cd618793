<script setup lang="ts">
import type { Exhibit } from '../api/service'
import { texts } from '../texts'

const props = defineProps<{ exhibit: Exhibit; case: string; mayWork: boolean }>()
defineEmits<{ drop: [] }>()
</script>

<template>
  <article :id="`exhibit-${exhibit.id}`" :data-exhibit="exhibit.id">
    <header>
      <b>{{ texts.notes.exhibit(exhibit.id) }}</b>
      <RouterLink :to="{ name: 'sitting', params: { case: props.case, evidence: exhibit.evidence }, query: { moment: String(exhibit.place.moment), thread: exhibit.place.thread, frame: String(exhibit.place.frame) } }">{{ texts.notes.of(exhibit.question, exhibit.evidence, exhibit.place.moment) }}</RouterLink>
      <span class="soft">{{ texts.notes.keptBy(exhibit.by, exhibit.created) }}</span>
      <button v-if="mayWork" type="button" :aria-label="texts.notes.dropOf(exhibit.id)" @click="$emit('drop')">{{ texts.notes.drop }}</button>
    </header>
    <p v-if="exhibit.note">{{ exhibit.note }}</p>
    <!-- The service renders the answer as safe HTML (service/report, service/markdown). -->
    <!-- eslint-disable-next-line vue/no-v-html -->
    <div class="answer" v-html="exhibit.html"></div>
  </article>
</template>

<style scoped>
article {
  padding: 10px 14px;
  background: var(--fog-0);
  border: 1px solid var(--fog-2);
  border-left: 4px solid var(--mark);
}
header {
  display: flex;
  gap: 12px;
  align-items: baseline;
}
header button {
  margin-left: auto;
  padding: 0;
  font: inherit;
  font-size: 13px;
  color: var(--now-text);
  background: none;
  border: 0;
  cursor: pointer;
}
p {
  margin: 6px 0 0;
  font-weight: 600;
}
.answer {
  max-height: 260px;
  overflow: auto;
}
.answer :deep(pre) {
  margin: 6px 0 0;
  font-size: 13px;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
.answer :deep(ul) {
  margin: 6px 0 0;
  padding-left: 20px;
}
.answer :deep(table) {
  border-collapse: collapse;
}
.answer :deep(td),
.answer :deep(th) {
  padding: 2px 10px;
  text-align: left;
  border-bottom: 1px solid var(--fog-2);
}
</style>
