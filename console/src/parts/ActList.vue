<script setup lang="ts">
import type { Act } from '../client'
import { moment } from '../words'

defineProps<{ acts: Act[] }>()
const words: Record<string, string> = { try: 'tried at once', admit: 'no duplicate: taken', pass: 'others let pass', withdraw: 'withdrawn', arrived: 'has arrived', abandoned: 'the rest abandoned' }
</script>

<template>
  <table class="list acts">
    <tbody>
      <tr v-for="a in acts" :key="a.id"><td class="num faint">{{ moment(a.at) }}</td><td class="what">{{ words[a.what] ?? a.what }}</td><td>{{ a.by || 'nobody said who' }}</td><td class="faint">{{ a.because }}</td></tr>
    </tbody>
  </table>
</template>

<style scoped>
.acts tr { cursor: default; }
.acts td:first-child { width: 11rem; text-align: left; }
.acts .what { width: 14rem; }
.acts td { overflow-wrap: anywhere; }
</style>
