<script setup lang="ts">
import { ref, watch } from 'vue'
import type { Call } from '../api/service'
import { data, service, words } from '../api/service'
import { useEvidence } from '../stores/evidence'
import { useFrame } from '../stores/frame'
import { useSitting } from '../stores/sitting'
import { texts } from '../texts'

/** The call of the chosen frame as a whole: what it was given, gave back, and changed outside itself. */
const evidence = useEvidence()
const here = useFrame()
const sitting = useSitting()
const call = ref<Call>()
const trouble = ref('')

watch(
  () => ({ ...here.place }),
  async (place) => {
    // Within the call that is shown, nothing else is known of it.
    const c = call.value
    if (c && place.thread === c.thread && place.frame === 0 && here.frames[0]?.function === c.function && place.moment >= c.moment && place.moment <= c.end) return
    try {
      call.value = await data(service.GET('/api/cases/{case}/evidence/{evidence}/call', { params: { path: evidence.path, query: place } }))
      trouble.value = ''
    } catch (e) {
      call.value = undefined
      trouble.value = words(e)
    }
  },
  { immediate: true },
)

function go(moment: number) {
  return sitting.go({ moment, thread: call.value!.thread, frame: 0 }, call.value!.function)
}
</script>

<template>
  <p v-if="trouble" class="soft" role="status">{{ trouble }}</p>
  <div v-if="call" class="call">
    <p>
      <b class="mono">{{ call.function }}</b>
      <button type="button" class="link" @click="go(call.moment)">{{ texts.call.entered(call.moment) }}</button>
      <button v-if="call.end >= 0" type="button" class="link" @click="go(call.end)">{{ texts.call.ended(call.outcome, call.end) }}</button>
      <span v-else class="soft">{{ texts.call.unfinished }}</span>
      <span v-if="call.panic" class="wrong">{{ call.panic }}</span>
    </p>
    <section>
      <h3>{{ texts.call.given }}</h3>
      <p v-if="!call.arguments.length" class="soft">{{ texts.call.nothing }}</p>
      <div v-for="v in call.arguments" :key="v.name" class="mono"><b>{{ v.name }}</b> = {{ v.value || v.why || v.state }}</div>
    </section>
    <section>
      <h3>{{ texts.call.gave }}</h3>
      <p v-if="!call.results.length" class="soft">{{ texts.call.nothing }}</p>
      <div v-for="(v, i) in call.results" :key="i" class="mono"><b>{{ v.name }}</b> = {{ v.value || v.why || v.state }}</div>
    </section>
    <section>
      <h3>{{ texts.call.changed(call.total) }}</h3>
      <div v-for="c in call.changed" :key="c.name" class="mono"><b>{{ c.name }}</b> {{ texts.call.change(c.old, c.new) }}</div>
      <p v-if="call.total > call.changed.length" class="soft">{{ texts.call.more(call.total - call.changed.length) }}</p>
    </section>
  </div>
</template>

<style scoped>
.call {
  display: grid;
  grid-template-columns: 1fr 1fr 1.4fr;
  gap: 4px 24px;
}
.call > p {
  grid-column: 1 / -1;
  display: flex;
  flex-wrap: wrap;
  gap: 4px 18px;
  align-items: baseline;
  margin: 2px 0;
}
section {
  min-width: 0;
  overflow-wrap: anywhere;
}
h3 {
  margin: 4px 0;
  font-size: 14px;
}
.wrong {
  color: var(--wrong);
}
</style>
