<script setup lang="ts">
// Pickups as a list that can be walked by keys.
import { toRef } from 'vue'
import type { Pickup } from '../client'
import { useOpen, useRows } from '../keys'
import { many, moment, number, size } from '../words'
import StateMark from './StateMark.vue'

const props = defineProps<{ pickups: Pickup[]; route?: boolean }>()
const open = useOpen<Pickup>((p) => ({ name: 'pickup', params: { id: p.id } }))
const at = useRows(toRef(props, 'pickups'), open, (p) => p.id)
</script>

<template>
  <table class="list pickups">
    <thead>
      <tr>
        <th class="num">Pickup</th>
        <th>Time</th>
        <th v-if="route">Route</th>
        <th>File</th>
        <th class="num">Size</th>
        <th>State</th>
        <th class="num">Records</th>
        <th class="num">Good</th>
        <th class="num">Rejected</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="(p, i) in pickups" :key="p.id" :class="{ at: i === at }" @click="open(p, $event)" @auxclick="$event.button === 1 && open(p, $event)">
        <td class="num"><RouterLink :to="{ name: 'pickup', params: { id: p.id } }" @click.stop @auxclick.stop>{{ p.id }}</RouterLink></td>
        <td class="num">{{ moment(p.claimed_at) }}</td>
        <td v-if="route">{{ p.route }}</td>
        <td class="name mono">{{ p.folder ? p.folder + '/' : '' }}{{ p.name }}</td>
        <td class="num">{{ size(p.size) }}</td>
        <td>
          <div class="became">
            <StateMark :state="p.state" :rejected="p.rejected" :whole="p.rejected_whole" />
            <span v-if="p.warnings" class="told">{{ many(p.warnings, 'warning') }}</span>
          </div>
          <div v-if="p.reason" class="faint reason">{{ p.reason }}</div>
        </td>
        <td class="num">{{ number(p.records_in) }}</td>
        <td class="num">{{ number(p.good) }}</td>
        <td class="num" :class="{ bad: p.rejected > 0 }">{{ number(p.rejected) }}</td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
.reason { font-size: 0.85rem; max-width: 20rem; }
.became { display: flex; align-items: baseline; gap: 0.7rem; }
.told { color: var(--warn); white-space: nowrap; font-size: 0.92rem; }
.bad { color: var(--bad); font-weight: 600; }
</style>
