<script setup lang="ts">
import { ref, watch } from 'vue'
import type { Call, Uses } from '../api/service'
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
const uses = ref<{ of: string; found: Uses }>()
const trouble = ref('')

watch(
  () => ({ ...here.place }),
  async (place) => {
    // Within the call that is shown, nothing else is known of it.
    const c = call.value
    if (c && place.thread === c.thread && place.frame === 0 && here.frames[0]?.function === c.function && place.moment >= c.moment && place.moment <= c.end) return
    uses.value = undefined
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

/** Whether a value is an object, or refers to one, which other calls can use too. */
function isObject(type: string) {
  return /^(\*|\[\]|map\[|chan )/.test(type)
}

async function findUses(of: string) {
  const c = call.value!
  try {
    const query = { moment: c.moment, thread: c.thread, frame: 0, of }
    uses.value = { of, found: await data(service.GET('/api/cases/{case}/evidence/{evidence}/uses', { params: { path: evidence.path, query } })) }
    trouble.value = ''
  } catch (e) {
    trouble.value = words(e)
  }
}

function goTo(use: Uses['calls'][number]) {
  return sitting.go({ moment: use.moment, thread: use.thread, frame: 0 }, use.function)
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
      <div v-for="v in call.arguments" :key="v.name" class="mono"><b>{{ v.name }}</b> = {{ v.value || v.why || v.state }}
        <button v-if="isObject(v.type)" type="button" class="link uses" :aria-label="texts.call.usesOf(v.name)" @click="findUses(v.name)">{{ texts.call.uses }}</button>
      </div>
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
    <section v-if="uses" class="wide">
      <h3>{{ texts.call.used(uses.of, uses.found.total) }}</h3>
      <div v-for="u in uses.found.calls" :key="u.moment" class="use">
        <button type="button" class="link" :disabled="u.asked" @click="goTo(u)">{{ u.moment }}</button>
        <span class="mono">{{ u.function }}</span>
        <span>{{ texts.call.how(u.what, u.parameter) }}</span>
        <span v-if="u.asked" class="soft">{{ texts.call.thisOne }}</span>
      </div>
      <p v-if="uses.found.total > uses.found.calls.length" class="soft">{{ texts.call.moreUses(uses.found.total - uses.found.calls.length) }}</p>
      <p class="soft">{{ texts.call.usesLeaveOut }}</p>
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
.wide {
  grid-column: 1 / -1;
}
.use {
  display: flex;
  gap: 4px 14px;
  align-items: baseline;
}
.uses {
  margin-left: 8px;
}
h3 {
  margin: 4px 0;
  font-size: 14px;
}
.wrong {
  color: var(--wrong);
}
</style>
