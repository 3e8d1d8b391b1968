<script setup lang="ts">
// What a person should know, with a way to say that it has been seen.
import Button from 'primevue/button'
import type { Alert } from '../client'
import { moment } from '../words'

defineProps<{ alerts: Alert[]; all?: boolean }>()
defineEmits<{ seen: [ids: number[]] }>()

const over = (a: Alert) => !!a.ended_at && Date.parse(a.ended_at) - Date.parse(a.at) > 1
</script>

<template>
  <table class="list alerts">
    <thead>
      <tr><th>Time</th><th>Kind</th><th>Route</th><th>What</th><th /></tr>
    </thead>
    <tbody>
      <tr v-for="a in alerts" :key="a.id" :data-kind="a.kind">
        <td class="num">{{ moment(a.at) }}</td>
        <td class="kind">{{ a.kind }}</td>
        <td class="kind"><RouterLink v-if="a.route" :to="{ name: 'route', params: { name: a.route } }">{{ a.route }}</RouterLink></td>
        <td class="what">
          <RouterLink v-if="a.pickup" :to="{ name: 'pickup', params: { id: a.pickup } }">{{ a.message }}</RouterLink>
          <template v-else>{{ a.message }}</template>
        </td>
        <td class="state faint">
          <template v-if="a.seen_at">seen{{ a.seen_by ? ` by ${a.seen_by}` : '' }}</template>
          <template v-else>
            <span v-if="over(a)">over {{ moment(a.ended_at ?? a.at) }} </span>
            <Button label="Seen" size="small" severity="secondary" outlined @click="$emit('seen', [a.id])" />
          </template>
        </td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
.alerts tr { cursor: default; }
.kind { white-space: nowrap; }
.kind:nth-child(2) { font-weight: 600; }
.what { overflow-wrap: anywhere; }
.state { text-align: right; white-space: nowrap; font-size: 0.88rem; }
</style>
