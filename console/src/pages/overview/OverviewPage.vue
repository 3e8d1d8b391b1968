<script setup lang="ts">
import { computed } from 'vue'
import { overview, seeAlerts } from '../../client'
import { useRefresh } from '../../client/events'
import { useLoad } from '../../client/load'
import AlertTable from '../../parts/AlertTable.vue'
import BalanceLine from '../../parts/BalanceLine.vue'
import ExpectedTable from '../../parts/ExpectedTable.vue'
import PickupTable from '../../parts/PickupTable.vue'
import StandIn from '../../parts/StandIn.vue'
import { clock, day, many, offset } from '../../words'
import RouteSummary from './RouteSummary.vue'

const { data, problem, loading, load } = useLoad(overview)
void load()
useRefresh(() => true, load)
async function seen(ids: number[]) {
  try {
    await seeAlerts(ids)
  } catch (e) {
    problem.value = (e as Error).message
    return
  }
  await load()
}
// The service counts by its own day, which may begin at another time here.
const elsewhere = computed(() => data.value && offset(data.value.since) !== offset(new Date(data.value.since)))
const total = computed(() => data.value?.total)
</script>

<template>
  <main class="page">
    <div class="head">
      <h1>Today</h1>
      <span v-if="data" class="faint">{{ data.since.slice(0, 10) }}<template v-if="elsewhere">, the service's day ({{ offset(data.since) }}): since {{ day(data.since) }} {{ clock(data.since) }} here</template></span>
      <span class="space" />
      <template v-if="total">
        <span>{{ many(total.pickups, 'pickup') }}</span>
        <BalanceLine :records="total.records_in" :good="total.good" :rejected="total.rejected" :filtered="total.filtered" :merged="total.merged" />
      </template>
    </div>
    <StandIn v-if="problem || !data" :problem="problem" :loading="loading" :stale="!!data" @retry="load" />
    <template v-if="data && total">
      <p v-if="total.held > 0 || total.uncertain > 0 || total.rejected_whole > 0 || data.lanes.length" class="attention">
        <RouterLink v-if="total.held > 0" :to="{ name: 'pickups', query: { state: 'held' } }">{{ many(total.held, 'pickup') }} held: cannot go on</RouterLink>
        <RouterLink v-if="total.uncertain > 0" :to="{ name: 'pickups', query: { state: 'uncertain' } }">{{ many(total.uncertain, 'pickup') }} uncertain</RouterLink>
        <RouterLink v-if="data.lanes.length" :to="{ name: 'attention' }">{{ many(data.lanes.length, 'lane') }} held</RouterLink>
        <RouterLink v-if="total.rejected_whole > 0" :to="{ name: 'pickups', query: { state: 'rejected' } }">{{ many(total.rejected_whole, 'file') }} rejected whole</RouterLink>
      </p>
      <template v-if="data.alerts.length">
        <h2>Nobody has seen yet <RouterLink class="more" :to="{ name: 'attention' }">all</RouterLink></h2>
        <AlertTable :alerts="data.alerts.slice(0, 5)" @seen="seen" />
      </template>
      <template v-if="data.expected.length">
        <h2>Expected <RouterLink class="more" :to="{ name: 'attention' }">all</RouterLink></h2>
        <ExpectedTable :expected="data.expected.slice(0, 6)" />
      </template>
      <h2>Routes</h2>
      <RouteSummary v-if="data.routes.length" :routes="data.routes" />
      <StandIn v-else>
        <p>No route has been published yet.</p>
        <p>Publish a workspace: <code>ydrion publish FOLDER --start</code></p>
      </StandIn>
      <h2>Latest pickups</h2>
      <PickupTable v-if="data.latest.length" :pickups="data.latest" route />
      <StandIn v-else><p>Nothing has been picked up yet. Drop a file into the folder of a running route.</p></StandIn>
    </template>
  </main>
</template>

<style scoped>
.attention { display: flex; gap: 1.4rem; margin: 0 0 0.6rem; padding: 0.5rem 0.8rem; border-left: 3px solid var(--warn); background: var(--band); }
.more { font-size: 0.87rem; font-weight: 400; margin-left: 0.8rem; }
</style>
