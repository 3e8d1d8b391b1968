<script setup lang="ts">
// What needs a person: alerts, lanes that are held, deadlines, and the services
// themselves.
import Button from 'primevue/button'
import ToggleSwitch from 'primevue/toggleswitch'
import { ref, watch } from 'vue'
import { alerts, decide, expectations, lanes, nodes, pickups, seeAlerts, type Lane } from '../../client'
import { useRefresh } from '../../client/events'
import { useLoad } from '../../client/load'
import AlertTable from '../../parts/AlertTable.vue'
import ExpectedTable from '../../parts/ExpectedTable.vue'
import LaneTable from '../../parts/LaneTable.vue'
import PickupTable from '../../parts/PickupTable.vue'
import SayDialog from '../../parts/SayDialog.vue'
import StandIn from '../../parts/StandIn.vue'
import { moment, number, passText } from '../../words'

const all = ref(false)
const { data, problem, loading, load } = useLoad(async () => {
  const [a, l, p, x, n] = await Promise.all([alerts({ open: !all.value, limit: 50 }), lanes(), pickups({ state: ['held', 'uncertain'], limit: 25 }), expectations(), nodes()])
  return { alerts: a.items, lanes: l.items, held: p.items, expected: x.items, nodes: n.items }
})
void load()
watch(all, load)
useRefresh((e) => e.kind !== 'progress', load)

async function doing(what: Promise<unknown>) {
  try {
    await what
  } catch (e) {
    problem.value = (e as Error).message
    return
  }
  await load()
}
const seen = (ids: number[]) => doing(seeAlerts(ids.length ? ids : undefined))
const passing = ref(false)
const lane = ref<Lane>()
function pass(l: Lane) {
  lane.value = l
  passing.value = true
}
</script>

<template>
  <main class="page">
    <div class="head">
      <h1>Attention</h1>
      <span class="space" />
      <label class="switch"><ToggleSwitch v-model="all" /> also what was seen or is over</label>
      <Button label="All seen" size="small" severity="secondary" outlined :disabled="!data?.alerts.some((a) => !a.seen_at)" @click="seen([])" />
    </div>
    <StandIn v-if="problem || !data" :problem="problem" :loading="loading" :stale="!!data" @retry="load" />
    <template v-if="data">
      <AlertTable v-if="data.alerts.length" :alerts="data.alerts" @seen="seen" />
      <StandIn v-else><p>There is nothing that nobody has seen.</p></StandIn>
      <template v-if="data.lanes.length">
        <h2>Lanes that are held</h2>
        <LaneTable :lanes="data.lanes" @pass="pass" />
      </template>
      <template v-if="data.held.length">
        <h2>Pickups that cannot go on</h2>
        <PickupTable :pickups="data.held" route />
      </template>
      <h2>Expected files</h2>
      <ExpectedTable v-if="data.expected.length" :expected="data.expected.slice(0, 20)" />
      <StandIn v-else><p>No running route expects anything. A route says so under <code>expect:</code>.</p></StandIn>
      <h2>Services</h2>
      <table class="list nodes">
        <thead>
          <tr><th class="num">Node</th><th>Name</th><th>Address</th><th>State</th><th>Since</th><th class="num">Routes</th></tr>
        </thead>
        <tbody>
          <tr v-for="n in data.nodes" :key="n.id">
            <td class="num">{{ n.id }}</td>
            <td>{{ n.name }}<span v-if="n.self" class="faint"> (this one)</span></td>
            <td class="mono">{{ n.address }}</td>
            <td>{{ n.ended_at ? `ended ${moment(n.ended_at)}` : 'alive' }}</td>
            <td class="num">{{ moment(n.began_at) }}</td>
            <td class="num">{{ number(n.routes) }}</td>
          </tr>
        </tbody>
      </table>
      <SayDialog v-if="lane" v-model="passing" :title="`Let others pass ${lane.name}?`" :text="passText(lane)" button="Let them pass" @said="(said) => lane && doing(decide(lane.pickup, 'pass', said))" />
    </template>
  </main>
</template>

<style scoped>
.switch { display: inline-flex; align-items: center; gap: 0.5rem; font-size: 0.92rem; }
.nodes tr { cursor: default; }
</style>
