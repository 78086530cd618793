<script setup lang="ts">
import { computed, ref } from 'vue'
import { useCheckpoints } from '../stores/checkpoints'
import { useEvidence } from '../stores/evidence'
import { useFrame } from '../stores/frame'
import { useLedger } from '../stores/ledger'
import { useSitting } from '../stores/sitting'
import { texts } from '../texts'

const checkpoints = useCheckpoints()
const evidence = useEvidence()
const here = useFrame()
const ledger = useLedger()
const sitting = useSitting()
const column = ref('')
const page = 50
const rows = computed(() => [
  { id: 'call', label: texts.ledger.call },
  ...(checkpoints.checkpoint ? [{ id: 'hits', label: texts.ledger.hits(checkpoints.checkpoint.id) }] : []),
])

function add() {
  const c = column.value.trim()
  if (c) void ledger.addColumn(c)
  column.value = ''
}

/** The shown rows as text, for a file of one's own. */
function text(markdown: boolean) {
  const l = ledger.table
  if (!l) return ''
  const quote = (x: string) => (markdown ? x.replace(/\|/g, '\\|') : /[",\n]/.test(x) ? `"${x.replace(/"/g, '""')}"` : x)
  const line = (cells: string[]) => (markdown ? `| ${cells.map(quote).join(' | ')} |` : cells.map(quote).join(','))
  const head = [texts.ledger.moment, texts.ledger.place, ...l.columns]
  const body = l.rows.map((r) => line([String(r.moment), `${r.file}:${r.line}`, ...r.cells.map((c) => (c.error ? '?' : c.value))]))
  return [line(head), ...(markdown ? [line(head.map(() => '---'))] : []), ...body].join('\n') + '\n'
}

function save(markdown: boolean) {
  const a = document.createElement('a')
  a.href = URL.createObjectURL(new Blob([text(markdown)], { type: markdown ? 'text/markdown' : 'text/csv' }))
  a.download = `${evidence.name}-ledger.${markdown ? 'md' : 'csv'}`
  a.click()
  URL.revokeObjectURL(a.href)
}
</script>

<template>
  <form @submit.prevent="add">
    <el-input v-model="column" :aria-label="texts.ledger.column" :placeholder="texts.ledger.columnHint" />
    <el-button native-type="submit">{{ texts.ledger.add }}</el-button>
    <label>{{ texts.ledger.rows }}
      <select :value="ledger.rows" :aria-label="texts.ledger.rowsOf" @change="ledger.chooseRows(($event.target as HTMLSelectElement).value)">
        <option v-for="r in rows" :key="r.id" :value="r.id">{{ r.label }}</option>
      </select>
    </label>
    <label v-if="sitting.state"><input v-model="ledger.isShared" type="checkbox" /> {{ texts.ledger.shared }}</label>
    <button v-if="ledger.table" type="button" class="plain" @click="save(false)">{{ texts.ledger.csv }}</button>
    <button v-if="ledger.table" type="button" class="plain" @click="save(true)">{{ texts.ledger.markdown }}</button>
  </form>
  <p v-if="!ledger.columns.length" class="soft">{{ texts.ledger.none }}</p>
  <div v-else-if="ledger.table" class="sheet">
    <table>
      <thead>
        <tr>
          <th scope="col">{{ texts.ledger.moment }}</th>
          <th scope="col">{{ texts.ledger.place }}</th>
          <th v-for="c in ledger.table.columns" :key="c" scope="col">
            <code>{{ c }}</code> <button type="button" class="link" :aria-label="texts.ledger.remove(c)" @click="ledger.dropColumn(c)">×</button>
          </th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="r in ledger.table.rows" :key="r.moment" :class="{ here: r.moment === here.place.moment }">
          <td><button type="button" class="link mono" @click="sitting.go({ moment: r.moment, thread: r.thread, frame: 0 }, texts.values.ledger)">{{ r.moment }}</button></td>
          <td class="mono soft">{{ r.file }}:{{ r.line }}</td>
          <td v-for="(c, i) in r.cells" :key="i" :class="{ changed: c.changed }">
            <span v-if="c.error" class="soft" :title="c.error">?</span>
            <code v-else :title="c.value">{{ c.value }}<span v-if="c.changed" class="delta" :title="texts.ledger.changed"> Δ</span></code>
          </td>
        </tr>
      </tbody>
    </table>
    <p class="soft">
      {{ texts.ledger.page(ledger.from + 1, ledger.from + ledger.table.rows.length, ledger.table.total) }}
      <button type="button" class="link" :disabled="ledger.from === 0" @click="ledger.turn(Math.max(0, ledger.from - page))">{{ texts.ledger.earlier }}</button>
      <button type="button" class="link" :disabled="ledger.from + page >= ledger.table.total" @click="ledger.turn(ledger.from + page)">{{ texts.ledger.later }}</button>
    </p>
  </div>
</template>

<style scoped>
form {
  display: flex;
  gap: 10px;
  align-items: center;
}
form .el-input {
  max-width: 420px;
}
.sheet {
  overflow: auto;
}
table {
  margin-top: 6px;
  border-collapse: collapse;
}
th,
td {
  padding: 1px 14px 1px 0;
  text-align: left;
  white-space: nowrap;
  border-bottom: 1px solid var(--fog-3);
}
td code {
  display: inline-block;
  max-width: 320px;
  overflow: hidden;
  text-overflow: ellipsis;
  vertical-align: bottom;
}
.changed code {
  box-shadow: inset 0 -2px var(--now);
}
.here {
  background: var(--now-wash);
}
.delta {
  font-weight: 600;
  color: var(--now-text);
}
p {
  display: flex;
  gap: 14px;
  margin: 4px 0;
}
</style>
