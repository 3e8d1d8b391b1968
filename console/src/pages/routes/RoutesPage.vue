<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import { computed, ref } from 'vue'
import { lookups, routes, startRoute, stopRoute, type RouteView } from '../../client'
import { useRefresh } from '../../client/events'
import { useLoad } from '../../client/load'
import { useOpen, useRows } from '../../keys'
import LookupTable from '../../parts/LookupTable.vue'
import SayDialog from '../../parts/SayDialog.vue'
import StandIn from '../../parts/StandIn.vue'
import StateMark from '../../parts/StateMark.vue'
import { moment, number } from '../../words'

const { data, problem, loading, load } = useLoad(routes)
const tables = useLoad(() => lookups())
void load()
void tables.load()
useRefresh(() => true, load)
useRefresh((e) => e.kind === 'pickup', tables.load)
const filter = ref('')
const shown = computed(() => (data.value?.items ?? []).filter((r) => `${r.name} ${r.notes} ${r.state}`.toLowerCase().includes(filter.value.toLowerCase())))
const open = useOpen<RouteView>((r) => ({ name: 'route', params: { name: r.name } }))
const at = useRows(shown, open, (r) => r.name)
const busy = ref('')

const stopping = ref(false)
const toStop = ref('')
function toggle(r: RouteView) {
  if (r.state === 'stopped') return act(r.name, startRoute(r.name))
  toStop.value = r.name
  stopping.value = true
}
async function act(name: string, what: Promise<unknown>) {
  busy.value = name
  try {
    await what
  } catch (e) {
    problem.value = (e as Error).message
    return
  } finally {
    busy.value = ''
  }
  await load()
}
</script>

<template>
  <main class="page">
    <div class="head">
      <h1>Routes</h1>
      <span class="space" />
      <InputText v-model="filter" class="filter" placeholder="Filter by typing  ( / )" aria-label="Filter routes" size="small" />
    </div>
    <StandIn v-if="problem || !data" :problem="problem" :loading="loading" :stale="!!data" @retry="load" />
    <table v-if="shown.length" class="list">
      <thead>
        <tr>
          <th>Route</th>
          <th>State</th>
          <th class="num">Revision</th>
          <th>Published</th>
          <th class="num">Pickups today</th>
          <th class="num">Good</th>
          <th class="num">Rejected</th>
          <th class="num">Waiting</th>
          <th><span class="faint">Action</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(r, i) in shown" :key="r.name" :class="{ at: i === at }" @click="open(r, $event)" @auxclick="$event.button === 1 && open(r, $event)">
          <td class="name">
            <RouterLink :to="{ name: 'route', params: { name: r.name } }" @click.stop @auxclick.stop>{{ r.name }}</RouterLink>
            <div class="faint notes">{{ r.notes }}</div>
          </td>
          <td>
            <StateMark :state="r.state" />
            <div v-if="r.problem" class="faint notes">{{ r.problem }}</div>
          </td>
          <td class="num">{{ r.revision_number }}</td>
          <td>{{ moment(r.published_at) }}</td>
          <td class="num">{{ number(r.today.pickups) }}</td>
          <td class="num">{{ number(r.today.good) }}</td>
          <td class="num">{{ number(r.today.rejected) }}</td>
          <td class="num">{{ number(r.waiting) }}</td>
          <td><Button :label="r.state === 'stopped' ? 'Start' : 'Stop'" size="small" severity="secondary" outlined :loading="busy === r.name" @click.stop="toggle(r)" /></td>
        </tr>
      </tbody>
    </table>
    <template v-if="tables.data.value?.items.length">
      <h2>Lookups that come with files</h2>
      <LookupTable :lookups="tables.data.value.items" />
    </template>
    <SayDialog v-model="stopping" :title="`Stop ${toStop}?`" text="What is under way is finished. New files wait in the folder until the route is started." button="Stop it" @said="(said) => act(toStop, stopRoute(toStop, said))" />
    <StandIn v-if="data && !shown.length">
      <p v-if="filter">No route matches “{{ filter }}”.</p>
      <template v-else>
        <p>No route has been published yet.</p>
        <p>Check a workspace with <code>ydrion check FOLDER</code>, then publish it with <code>ydrion publish FOLDER --start</code>.</p>
      </template>
    </StandIn>
  </main>
</template>

<style scoped>
.filter { width: 17rem; }
.notes { font-size: 0.85rem; }
</style>
