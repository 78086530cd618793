<script setup lang="ts">
import { computed, onMounted, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import type { Traces } from '../api/service'
import { data, duration, service, words } from '../api/service'
import { texts } from '../texts'

const props = defineProps<{ case: string }>()
const route = useRoute()
const router = useRouter()
const when = ref(String(route.query.when ?? ''))
const from = ref(Number(route.query.from ?? 0) || 0)
const list = ref<Traces>()
const trouble = ref('')
const busy = ref(false)
const page = 50

const longest = computed(() => Math.max(...(list.value?.traces ?? []).map((t) => t.durationNs), 1))

async function load() {
  busy.value = true
  trouble.value = ''
  try {
    const query = { when: when.value.trim() || undefined, from: from.value, count: page }
    list.value = await data(service.GET('/api/cases/{case}/traces', { params: { path: { case: props.case }, query } }))
  } catch (e) {
    list.value = undefined
    trouble.value = words(e)
  }
  busy.value = false
}

/** The address names what is listed, so that it can be sent to a teammate. */
function ask(first: number) {
  from.value = first
  void router.replace({ query: { ...(when.value.trim() ? { when: when.value.trim() } : {}), ...(first ? { from: String(first) } : {}) } })
  void load()
}

function only(condition: string) {
  when.value = condition
  ask(0)
}

onMounted(load)
</script>

<template>
  <section class="sheet">
    <h1>{{ texts.traces.title }}</h1>
    <form class="ask" @submit.prevent="ask(0)">
      <label for="when">{{ texts.traces.when }}</label>
      <el-input id="when" v-model="when" class="mono" :placeholder="texts.traces.whenHint" clearable />
      <el-button native-type="submit" :loading="busy">{{ texts.traces.list }}</el-button>
      <button type="button" class="link" @click="only('status == &quot;error&quot;')">{{ texts.traces.failing }}</button>
      <button type="button" class="link" @click="only('')">{{ texts.traces.all }}</button>
    </form>
    <p class="soft">{{ texts.traces.names }}</p>
    <p v-if="trouble" role="alert" class="trouble">{{ trouble }}</p>
    <p v-if="list?.undecided" class="soft">{{ texts.traces.undecided(list.undecided, list.trouble) }}</p>
    <p v-if="list" id="total">{{ texts.traces.total(list.total) }}</p>
    <table v-if="list?.traces.length">
      <thead>
        <tr><th>{{ texts.traces.began }}</th><th>{{ texts.traces.operation }}</th><th>{{ texts.traces.took }}</th><th></th><th>{{ texts.traces.spans }}</th><th>{{ texts.traces.status }}</th><th>{{ texts.traces.trace }}</th></tr>
      </thead>
      <tbody>
        <tr v-for="t in list.traces" :key="t.traceID + t.evidence">
          <td class="mono">{{ t.started.slice(0, 10) }} {{ t.started.slice(11, 23) }}</td>
          <td>
            <RouterLink :to="{ name: 'sitting', params: { case: props.case, evidence: t.evidence }, query: { moment: String(t.moment) } }">{{ t.operation.startsWith(t.service + '/') ? t.operation : `${t.service}/${t.operation}` }}</RouterLink>
          </td>
          <td class="number">{{ duration(t.durationNs) }}</td>
          <td class="span" aria-hidden="true"><i :style="{ width: `${Math.max((100 * t.durationNs) / longest, 0.5)}%` }" :class="{ wrong: t.status === 'error' }"></i></td>
          <td class="number">{{ t.spans.toLocaleString() }}</td>
          <td :class="{ trouble: t.status === 'error' }"><span v-if="t.status === 'error'" class="notch" aria-hidden="true"></span>{{ t.status }}<span v-if="t.errors">{{ texts.traces.errors(t.errors) }}</span></td>
          <td class="mono soft" :title="t.traceID">{{ t.traceID.slice(0, 16) }}</td>
        </tr>
      </tbody>
    </table>
    <p v-if="list && list.total > page" class="turn">
      <el-button size="small" :disabled="!from" @click="ask(Math.max(from - page, 0))">{{ texts.traces.newer }}</el-button>
      {{ texts.traces.page(from + 1, Math.min(from + page, list.total)) }}
      <el-button size="small" :disabled="from + page >= list.total" @click="ask(from + page)">{{ texts.traces.older }}</el-button>
    </p>
  </section>
</template>

<style scoped>
.sheet {
  padding: 18px 28px;
}
.ask {
  display: flex;
  gap: 12px;
  align-items: center;
}
.ask .el-input {
  max-width: 620px;
}
table {
  width: 100%;
  border-collapse: collapse;
  background: var(--fog-0);
}
th {
  text-align: left;
  color: var(--ink-soft);
  border-bottom: 2px solid var(--fog-3);
}
td {
  border-bottom: 1px solid var(--fog-3);
}
th,
td {
  padding: 5px 10px;
  white-space: nowrap;
}
.number {
  text-align: right;
}
.span {
  width: 22%;
}
.span i {
  display: block;
  height: 8px;
  background: hsl(var(--lane) 62%);
}
.span i.wrong {
  background: var(--wrong);
}
.trouble {
  color: var(--wrong);
}
.notch {
  display: inline-block;
  margin-right: 6px;
  border: 5px solid transparent;
  border-top: 8px solid var(--wrong);
  border-bottom: 0;
}
.turn {
  display: flex;
  gap: 12px;
  align-items: center;
}
</style>
