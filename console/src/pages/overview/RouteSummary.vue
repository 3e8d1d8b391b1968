<script setup lang="ts">
import { useRouter } from 'vue-router'
import type { RouteView } from '../../client'
import StateMark from '../../parts/StateMark.vue'
import { moment, number, underWay } from '../../words'

defineProps<{ routes: RouteView[] }>()
const router = useRouter()
// Rows that were merged are in the record that they went into.
const records = (r: RouteView) => r.today.records_in - r.today.merged
const share = (r: RouteView, n: number) => `${records(r) ? (100 * n) / records(r) : 0}%`
</script>

<template>
  <table class="list">
    <thead>
      <tr>
        <th>Route</th>
        <th>State</th>
        <th class="num">Pickups</th>
        <th class="num">Records</th>
        <th class="num">Good</th>
        <th class="num">Rejected</th>
        <th class="num">Waiting</th>
        <th>Latest</th>
        <th class="shares">Good and rejected</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="r in routes" :key="r.name" @click="router.push({ name: 'route', params: { name: r.name } })">
        <td><RouterLink :to="{ name: 'route', params: { name: r.name } }" @click.stop>{{ r.name }}</RouterLink></td>
        <td>
          <StateMark :state="r.state" />
          <span v-for="c in r.current" :key="c.run" class="faint"> · {{ underWay(c) }} of {{ c.name }}</span>
        </td>
        <td class="num">{{ number(r.today.pickups) }}</td>
        <td class="num">{{ number(r.today.records_in) }}</td>
        <td class="num">{{ number(r.today.good) }}</td>
        <td class="num">{{ number(r.today.rejected) }}</td>
        <td class="num">{{ number(r.waiting) }}</td>
        <td>{{ r.today.last ? moment(r.today.last) : '–' }}</td>
        <td class="shares" :title="`${number(r.today.good)} good, ${number(r.today.rejected)} rejected`">
          <span class="bar"><span class="part-good" :style="{ width: share(r, r.today.good) }" /><span class="part-bad" :style="{ width: share(r, r.today.rejected) }" /></span>
        </td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
.shares { width: 11rem; }
.bar { display: flex; height: 0.6rem; margin-top: 0.4rem; background: var(--band); border: 1px solid var(--line); }
.part-good { background: var(--good); }
.part-bad { background: repeating-linear-gradient(45deg, var(--bad) 0 3px, transparent 3px 5px); }
</style>
