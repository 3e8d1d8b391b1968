<script setup lang="ts">
// Deadlines for files, and what had come by then.
import type { Expected } from '../client'
import { moment, number } from '../words'
import StateMark from './StateMark.vue'

defineProps<{ expected: Expected[] }>()
</script>

<template>
  <table class="list expected">
    <thead>
      <tr><th>Due</th><th>State</th><th class="num">Came</th><th>Route</th><th>Name</th><th>Expected</th></tr>
    </thead>
    <tbody>
      <tr v-for="x in expected" :key="x.route + x.name + x.due_at">
        <td class="num">{{ moment(x.due_at) }}</td>
        <td><StateMark :state="x.state" /></td>
        <td class="num">{{ number(x.seen) }}</td>
        <td><RouterLink :to="{ name: 'route', params: { name: x.route } }">{{ x.route }}</RouterLink></td>
        <td>{{ x.name }}</td>
        <td class="faint">{{ x.wanted }}</td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
.expected tr { cursor: default; }
</style>
