<script setup lang="ts">
import { ref, watch } from 'vue'
import type { Instant } from '../api/service'
import { data, duration, service, words } from '../api/service'
import { useEvidence } from '../stores/evidence'
import { useFrame } from '../stores/frame'
import { texts } from '../texts'

const evidence = useEvidence()
const here = useFrame()
const instant = ref<Instant>()
const trouble = ref('')

async function load() {
  try {
    instant.value = await data(service.GET('/api/cases/{case}/evidence/{evidence}/instant', { params: { path: evidence.path, query: { moment: here.place.moment, thread: here.place.thread } } }))
    trouble.value = ''
  } catch (e) {
    trouble.value = words(e)
  }
}

watch(() => here.place.moment, load, { immediate: true })

/** Says how far another clock is behind, in seconds. */
async function shift(name: string, seconds: string) {
  const ns = Math.round(Number(seconds) * 1e9)
  if (!Number.isFinite(ns)) {
    trouble.value = texts.elsewhere.invalid(seconds)
    return
  }
  try {
    await data(service.PUT('/api/cases/{case}/evidence/{evidence}/offset', { params: { path: { case: evidence.path.case, evidence: name } }, body: { offsetNs: ns } }))
    await load()
  } catch (e) {
    trouble.value = words(e)
  }
}
</script>

<template>
  <p v-if="trouble" class="wrong" role="alert">{{ trouble }}</p>
  <p v-if="instant" class="soft">
    <template v-if="instant.at">{{ texts.elsewhere.instant }} <span class="mono">{{ instant.at }}</span></template><template v-else>{{ texts.elsewhere.noClock }}</template><template v-if="instant.traceID">{{ texts.elsewhere.trace }} <span class="mono">{{ instant.traceID.slice(0, 16) }}</span></template><template v-if="!instant.places.length">{{ texts.elsewhere.none }}</template>
  </p>
  <table v-if="instant?.places.length">
    <thead>
      <tr><th>{{ texts.elsewhere.evidence }}</th><th>{{ texts.elsewhere.what }}</th><th>{{ texts.elsewhere.found }}</th><th>{{ texts.elsewhere.distance }}</th><th>{{ texts.elsewhere.behind }}</th></tr>
    </thead>
    <tbody>
      <tr v-for="p in instant.places" :key="p.evidence">
        <td><RouterLink :to="{ name: 'sitting', params: { case: evidence.path.case, evidence: p.evidence }, query: { moment: String(p.moment), thread: p.thread } }">{{ p.evidence }}@{{ p.moment }}</RouterLink></td>
        <td>{{ p.text || p.function }}</td>
        <td>{{ texts.elsewhere.by[p.by] }}</td>
        <td class="number">{{ p.by === 'one-moment' || p.by === 'unknown' ? '' : duration(p.differenceNs) }}</td>
        <td><input :value="p.offsetNs / 1e9" :aria-label="texts.elsewhere.behindOf(p.evidence)" inputmode="decimal" @change="shift(p.evidence, ($event.target as HTMLInputElement).value)" /></td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
table {
  border-collapse: collapse;
}
th {
  text-align: left;
  color: var(--ink-soft);
}
th,
td {
  padding: 3px 14px 3px 0;
}
.number {
  text-align: right;
}
input {
  width: 90px;
  font: inherit;
  color: var(--ink);
  background: var(--fog-0);
  border: 1px solid var(--fog-3);
}
.wrong {
  color: var(--wrong);
}
</style>
