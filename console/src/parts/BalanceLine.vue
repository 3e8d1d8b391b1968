<script setup lang="ts">
// records in = good + rejected + left out + merged, always in this order; merged only where records are, and warnings only
// where there are any.
import { many, number } from '../words'

defineProps<{ records: number; good: number; rejected: number; filtered: number; merged?: number; warnings?: number }>()
</script>

<template>
  <span class="balance">
    <b>{{ number(records) }}</b> in = <b>{{ number(good) }}</b> good + <b :class="{ r: rejected > 0 }">{{ number(rejected) }}</b> rejected + <b>{{ number(filtered) }}</b> left out<template v-if="merged"> + <b title="rows that went into a record with others">{{ number(merged) }}</b> merged</template><template v-if="warnings">, <span class="w">{{ many(warnings, 'warning') }}</span></template>
  </span>
</template>

<style scoped>
.balance { font-variant-numeric: tabular-nums; white-space: nowrap; color: var(--faint); }
b { color: var(--ink); font-weight: 600; }
.r { color: var(--bad); }
.w { color: var(--warn); font-weight: 600; }
</style>
