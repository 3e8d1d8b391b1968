<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { routes, startRoute, stopRoute, type RouteView } from '../../client'
import { useRefresh } from '../../client/events'
import { useLoad } from '../../client/load'
import { useRows } from '../../keys'
import StandIn from '../../parts/StandIn.vue'
import StateMark from '../../parts/StateMark.vue'
import { moment, number } from '../../words'

const router = useRouter()
const { data, problem, loading, load } = useLoad(routes)
void load()
useRefresh(() => true, load)
const filter = ref('')
const shown = computed(() => (data.value?.items ?? []).filter((r) => `${r.name} ${r.notes} ${r.state}`.toLowerCase().includes(filter.value.toLowerCase())))
const open = (r: RouteView) => void router.push({ name: 'route', params: { name: r.name } })
const at = useRows(shown, open, (r) => r.name)
const busy = ref('')

async function toggle(r: RouteView) {
  busy.value = r.name
  try {
    await (r.state === 'stopped' ? startRoute(r.name) : stopRoute(r.name))
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
        <tr v-for="(r, i) in shown" :key="r.name" :class="{ at: i === at }" @click="open(r)">
          <td class="name">
            <RouterLink :to="{ name: 'route', params: { name: r.name } }" @click.stop>{{ r.name }}</RouterLink>
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
    <StandIn v-else-if="data">
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
