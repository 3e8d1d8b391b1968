<script setup lang="ts">
// One record: its values with their positions and names, or its text.
import { ref } from 'vue'
import type { Shown } from '../../client/look'
import { number } from '../../words'

const props = defineProps<{ record: Shown; meanings: Record<string, string> }>()
const raw = ref(false)
const pointed = ref('')

// general is a position without what is counted, as the fields are listed.
const general = (path: string) => (path.startsWith('/') ? path.replace(/\/\d+(?=\/|$)/g, '/*') : path.replace(/\[\d+\]/g, ''))
const meaning = (path: string) => props.meanings[general(path)] ?? ''
const readable = (text: string) => text.replace(/\r\n?/g, '\n').trimEnd()
</script>

<template>
  <div class="sheet record">
    <div class="top faint">
      <span><b>record {{ number(record.record) }}</b>, line {{ number(record.line) }}, byte {{ number(record.offset) }}: {{ record.kind }}</span>
      <button class="turn" @click="raw = !raw">{{ raw ? 'values' : 'text' }}</button>
    </div>
    <pre v-if="raw" class="mono">{{ readable(record.raw) }}</pre>
    <table v-else>
      <tbody>
        <tr v-for="v in record.values" :key="v.path" :class="{ at: pointed === v.path }" @mouseenter="pointed = v.path" @mouseleave="pointed = ''">
          <td class="mono path">{{ v.path }}</td>
          <td class="value">{{ v.value }}<div v-if="meaning(v.path)" class="faint name">{{ meaning(v.path) }}</div></td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<style scoped>
.record { margin-bottom: 0.7rem; }
.top { display: flex; justify-content: space-between; padding: 0.35rem 0.7rem; border-bottom: 1px solid var(--line); font-size: 0.88rem; }
.turn { border: 0; background: none; color: var(--act); cursor: pointer; padding: 0; font: inherit; }
table { width: 100%; border-collapse: collapse; }
td { padding: 0.16rem 0.7rem; vertical-align: baseline; border-bottom: 1px solid var(--line); }
tr:last-child td { border-bottom: 0; }
tr.at { background: var(--band); }
.path { white-space: nowrap; width: 1%; }
.value { overflow-wrap: anywhere; white-space: pre-wrap; }
.name { font-size: 0.8rem; }
pre { margin: 0; padding: 0.6rem 0.7rem; overflow-x: auto; }
</style>
