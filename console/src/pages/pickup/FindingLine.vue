<script setup lang="ts">
import { computed } from 'vue'
import type { Finding } from '../../client'

const props = defineProps<{ finding: Finding }>()
const where = computed(() => {
  const p = props.finding.place
  const parts = []
  if (p.line) parts.push(`line ${p.line}, column ${p.column}`)
  if (p.path) parts.push(p.path)
  return parts.join(' · ')
})
</script>

<template>
  <div class="finding" :class="finding.severity">
    <b>{{ finding.severity }}</b>
    <div>
      {{ finding.message }}
      <div v-if="finding.suggestion" class="suggestion">{{ finding.suggestion }}</div>
      <div class="faint where">
        <span v-if="where">{{ where }}</span> <span class="mono">{{ finding.code }}</span> <span v-if="finding.rule" class="mono">{{ finding.rule }}</span>
      </div>
    </div>
  </div>
</template>

<style scoped>
.finding { display: grid; grid-template-columns: 5rem 1fr; gap: 0.5rem; padding: 0.3rem 0; overflow-wrap: anywhere; }
.error b { color: var(--bad); }
.warning b { color: var(--warn); }
.suggestion::before { content: '→ '; color: var(--act); }
.where { font-size: 0.85rem; }
.where span + span { margin-left: 0.8rem; }
</style>
