<script setup lang="ts">
import type { Stage } from '../../client'
import { number } from '../../words'

defineProps<{ stage: Stage }>()
</script>

<template>
  <section class="band" :data-stage="stage.name">
    <h3>{{ stage.name }}</h3>
    <div class="what">
      <p>{{ stage.sentence }}</p>
      <p v-for="d in stage.details" :key="d" class="faint">{{ d }}</p>
    </div>
    <div class="count"><b>{{ number(stage.count) }}</b><span class="faint">{{ stage.unit }} today</span></div>
  </section>
</template>

<style scoped>
.band { display: grid; grid-template-columns: 6.5rem 1fr 9rem; gap: 1rem; padding: 0.75rem 1.1rem; border-bottom: 1px solid var(--line); }
.band:last-child { border-bottom: 0; }
h3 { margin: 0; font-size: 1rem; font-weight: 600; color: var(--act); }
p { margin: 0; overflow-wrap: anywhere; }
p.faint { font-size: 0.9rem; }
.count { text-align: right; font-variant-numeric: tabular-nums; border-left: 1px solid var(--line); }
.count b { display: block; font-size: 1.15rem; font-weight: 600; }
.count span { font-size: 0.85rem; }
</style>
