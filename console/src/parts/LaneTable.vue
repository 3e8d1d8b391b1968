<script setup lang="ts">
// Lanes that are held, by which pickup, with a way to let those behind it pass.
import Button from 'primevue/button'
import type { Lane } from '../client'
import { moment, number } from '../words'
import StateMark from './StateMark.vue'

defineProps<{ lanes: Lane[] }>()
defineEmits<{ pass: [lane: Lane] }>()
</script>

<template>
  <table class="list lanes">
    <thead>
      <tr><th>Route</th><th>Lane</th><th>Held by</th><th>Why</th><th class="num">Behind it</th><th /></tr>
    </thead>
    <tbody>
      <tr v-for="l in lanes" :key="l.route + l.lane">
        <td class="nowrap"><RouterLink :to="{ name: 'route', params: { name: l.route } }">{{ l.route }}</RouterLink></td>
        <td class="mono">{{ l.lane }}</td>
        <td><RouterLink :to="{ name: 'pickup', params: { id: l.pickup } }">{{ l.name }}</RouterLink> <StateMark :state="l.state" /></td>
        <td class="why">{{ l.reason }} <span class="faint">{{ l.next_try ? `Tried again at ${moment(l.next_try)}.` : 'It waits for a person.' }}</span></td>
        <td class="num">{{ number(l.behind) }}</td>
        <td class="do"><Button label="Let them pass" size="small" severity="secondary" outlined @click="$emit('pass', l)" /></td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
.lanes tr { cursor: default; }
.nowrap { white-space: nowrap; }
.why { overflow-wrap: anywhere; }
.do { text-align: right; white-space: nowrap; }
</style>
