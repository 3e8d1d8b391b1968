<script setup lang="ts">
// What is shown instead of data: still loading, nothing there, or a problem.
import Button from 'primevue/button'

defineProps<{ problem?: string; loading?: boolean; stale?: boolean }>()
defineEmits<{ retry: [] }>()
</script>

<template>
  <div v-if="problem" class="stand-in problem" role="alert">
    <p><strong>{{ stale ? 'What is shown is no longer up to date.' : 'This could not be loaded.' }}</strong> {{ problem }}</p>
    <Button label="Try again" size="small" severity="secondary" outlined @click="$emit('retry')" />
  </div>
  <div v-else-if="loading" class="stand-in" aria-busy="true">
    <div v-for="n in 5" :key="n" class="bar" :style="{ width: `${95 - n * 9}%` }" />
  </div>
  <div v-else class="stand-in empty"><slot /></div>
</template>

<style scoped>
.stand-in { background: var(--sheet); border: 1px solid var(--line); border-radius: 3px; padding: 1.2rem 1.4rem; margin-bottom: 1rem; }
.problem { border-color: var(--bad); display: flex; gap: 1rem; align-items: center; justify-content: space-between; }
.problem p { margin: 0; }
.bar { height: 0.8rem; background: var(--band); margin: 0.5rem 0; border-radius: 2px; }
.empty { color: var(--faint); }
.empty :deep(p) { margin: 0.2rem 0; }
.empty :deep(code) { color: var(--ink); background: var(--band); padding: 0.05rem 0.35rem; border-radius: 2px; }
</style>
