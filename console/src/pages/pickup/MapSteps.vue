<script setup lang="ts">
// What each line of a map did for a record: the fields that went into it, with their places in the file, and what came out.
import type { Explained } from '../../client'

defineProps<{ explained: Explained }>()
const said = (kind: string, value: string) => (['absent', 'empty', 'null'].includes(kind) ? kind : value)
const nothing = (kind: string) => ['absent', 'empty', 'null'].includes(kind)
</script>

<template>
  <table>
    <caption>{{ explained.branch ? `${explained.branch}: ` : '' }}<span class="mono">{{ explained.map }}</span></caption>
    <thead>
      <tr><th class="num">Line</th><th>The map says</th><th>What went in</th><th>What came out</th></tr>
    </thead>
    <tbody>
      <tr v-for="(s, i) in explained.steps" :key="i" :class="s.kind">
        <td class="num faint">{{ s.line || '' }}</td>
        <td class="mono">{{ s.says }}<span v-if="s.rows?.length" class="faint rows">{{ s.rows.join(', ') }}</span></td>
        <td>
          <div v-for="(p, k) in s.parts" :key="k">
            <span class="mono faint">{{ p.says }}</span>
            <span class="mono value" :class="{ none: nothing(p.kind) }">{{ said(p.kind, p.value) }}</span>
            <span v-if="p.at" class="faint place">line {{ p.at.line }}, column {{ p.at.column }}</span>
          </div>
          <div v-if="s.more" class="faint">… and {{ s.more }} more</div>
        </td>
        <td class="mono out" :class="{ none: nothing(s.kind) }">{{ said(s.kind, s.value) }}</td>
      </tr>
      <tr v-if="explained.more"><td /><td colspan="3" class="faint">… and {{ explained.more }} more steps</td></tr>
    </tbody>
  </table>
</template>

<style scoped>
table { border-collapse: collapse; width: 100%; font-size: 0.92rem; table-layout: fixed; }
caption { text-align: left; padding-bottom: 0.3rem; color: var(--faint); }
th { text-align: left; font-weight: normal; color: var(--faint); }
th:nth-child(1) { width: 3rem; }
th:nth-child(2) { width: 36%; }
th:nth-child(4) { width: 20%; }
th, td { padding: 0.15rem 0.9rem 0.25rem 0; vertical-align: baseline; border-top: 1px dotted var(--line); overflow-wrap: anywhere; }
thead th { border-top: 0; }
.num { text-align: right; }
.value { margin-left: 0.6rem; }
.place, .rows { margin-left: 0.6rem; font-size: 0.87rem; white-space: nowrap; }
.none { color: var(--faint); font-style: italic; opacity: 0.8; }
.failed .out { background: var(--mark); text-decoration: underline wavy var(--bad) 1.5px; text-underline-offset: 3px; }
</style>
