<script setup lang="ts">
// records in = good + rejected + left out, always in this order.
import { number } from '../words'

defineProps<{ records: number; good: number; rejected: number; filtered: number }>()
</script>

<template>
  <span class="balance">
    <b>{{ number(records) }}</b> in = <b>{{ number(good) }}</b> good + <b :class="{ r: rejected > 0 }">{{ number(rejected) }}</b> rejected + <b>{{ number(filtered) }}</b> left out
  </span>
</template>

<style scoped>
.balance { font-variant-numeric: tabular-nums; white-space: nowrap; color: var(--faint); }
b { color: var(--ink); font-weight: 600; }
.r { color: var(--bad); }
</style>
