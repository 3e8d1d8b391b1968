<script setup lang="ts">
// A state in a word and a shape; the colour only repeats it.
import { computed } from 'vue'

const props = defineProps<{ state: string; rejected?: number; whole?: boolean }>()

const words: Record<string, string> = {
  claimed: 'being taken',
  taken: 'at work',
  committed: 'delivering',
  delivered: 'delivered',
  rejected: 'rejected',
  'set aside': 'set aside',
  held: 'held',
  uncertain: 'uncertain',
  abandoned: 'abandoned',
  overtaken: 'overtaken',
  paused: 'paused',
  waiting: 'to come',
  met: 'met',
  missing: 'missing',
  late: 'came late',
  mismatch: 'not as expected',
  withdrawn: 'gone again',
  running: 'running',
  stopped: 'stopped',
  failing: 'failing',
  good: 'good',
  filtered: 'left out',
  works: 'works',
  open: 'not there yet',
  away: 'away',
  fails: 'fails',
  'not tried': 'not tried yet',
}
const partly = computed(() => props.state === 'delivered' && (props.rejected ?? 0) > 0)
const word = computed(() => (partly.value ? 'delivered in part' : props.whole ? 'rejected whole' : (words[props.state] ?? props.state)))
const tone = computed(() => {
  if (partly.value) return 'warn'
  return { works: 'good', away: 'bad', fails: 'bad', delivered: 'good', running: 'good', good: 'good', rejected: 'bad', failing: 'bad', held: 'warn', uncertain: 'bad', paused: 'warn', missing: 'bad', late: 'warn', mismatch: 'warn', met: 'good' }[props.state] ?? 'plain'
})
</script>

<template>
  <span class="state" :class="tone" :data-state="state">
    <svg viewBox="0 0 12 12" aria-hidden="true">
      <path v-if="partly" d="M1.5 1.5h9v9h-9z M1.5 10.5l9-9v9z" class="outline half" />
      <path v-else-if="tone === 'good'" d="M1.5 1.5h9v9h-9z" class="solid" />
      <path v-else-if="state === 'rejected' || state === 'away' || state === 'fails' || state === 'failing' || state === 'missing'" d="M2 2l8 8M10 2l-8 8" class="stroke" />
      <path v-else-if="state === 'held' || state === 'late' || state === 'mismatch'" d="M6 1l5 9.5H1z" class="outline" />
      <path v-else-if="state === 'uncertain'" d="M6 1l5 5-5 5-5-5z" class="outline" />
      <path v-else-if="state === 'paused'" d="M3.2 2v8M8.8 2v8" class="stroke" />
      <circle v-else-if="state === 'waiting' || state === 'not tried'" cx="6" cy="6" r="4.2" class="outline" />
      <path v-else-if="state === 'stopped' || state === 'withdrawn' || state === 'filtered' || state === 'set aside' || state === 'overtaken'" d="M1.5 6h9" class="stroke" />
      <circle v-else cx="6" cy="6" r="4.2" class="outline turning" />
    </svg>
    {{ word }}
  </span>
</template>

<style scoped>
.state { display: inline-flex; align-items: center; gap: 0.45em; white-space: nowrap; }
svg { width: 0.75em; height: 0.75em; flex: none; color: var(--faint); overflow: visible; }
.good svg { color: var(--good); }
.bad svg { color: var(--bad); }
.bad { color: var(--bad); font-weight: 600; }
.warn svg { color: var(--warn); }
.solid { fill: currentColor; }
.outline { fill: none; stroke: currentColor; stroke-width: 1.6; }
.half { fill: currentColor; fill-rule: evenodd; fill-opacity: 0.9; }
.stroke { fill: none; stroke: currentColor; stroke-width: 2.2; }
.turning { stroke-dasharray: 18 8; transform-origin: 6px 6px; animation: turn 1.2s linear infinite; }
@keyframes turn { to { transform: rotate(360deg); } }
</style>
