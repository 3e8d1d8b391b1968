<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import MultiSelect from 'primevue/multiselect'
import Select from 'primevue/select'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { pickups, routes as listRoutes, type AgainRequest } from '../../client'
import { useRefresh } from '../../client/events'
import { useLoad } from '../../client/load'
import AgainDialog from '../pickup/AgainDialog.vue'
import PickupTable from '../../parts/PickupTable.vue'
import StandIn from '../../parts/StandIn.vue'

// The filter lives in the address, so that every list can be linked to.
const address = useRoute()
const router = useRouter()
const text = (key: string) => (typeof address.query[key] === 'string' ? (address.query[key] as string) : '')
const name = ref(text('name'))
const output = ref(text('output'))
const routeName = ref<string | null>(text('route') || null)
const states = ref<string[]>(text('state') ? text('state').split(',') : [])
const span = ref<string | null>(text('span') || null)
const trail = ref<number[]>(text('before') ? [Number(text('before'))] : [])

const spans = [
  { label: 'the last hour', value: '1' },
  { label: 'the last 24 hours', value: '24' },
  { label: 'the last 7 days', value: '168' },
]
const stateChoices = [
  { label: 'delivered', value: 'delivered' },
  { label: 'rejected', value: 'rejected' },
  { label: 'set aside', value: 'set aside' },
  { label: 'held', value: 'held' },
  { label: 'uncertain', value: 'uncertain' },
  { label: 'being taken', value: 'claimed' },
  { label: 'at work', value: 'taken' },
  { label: 'delivering', value: 'committed' },
  { label: 'gone again', value: 'withdrawn' },
]
const before = computed(() => trail.value[trail.value.length - 1])

const { data, problem, loading, load } = useLoad(() =>
  pickups({
    route: routeName.value || undefined,
    state: states.value.length ? states.value : undefined,
    name: name.value || undefined,
    output: output.value || undefined,
    lane: text('lane') || undefined,
    since: span.value ? new Date(Date.now() - Number(span.value) * 3_600_000).toISOString() : undefined,
    before: before.value,
    limit: 25,
  }),
)
// Rows do not move under the pointer: new ones wait until it has gone, or until they are asked
// for.
const over = ref(false)
const top = ref(0) // the newest pickup that is shown, while new ones wait
const shown = computed(() => data.value?.items.filter((p) => !top.value || p.id <= top.value) ?? [])
const fresh = computed(() => (data.value?.items.length ?? 0) - shown.value.length)
watch(over, (now) => (top.value = now && !before.value ? (data.value?.items[0]?.id ?? 0) : 0))
const routeList = useLoad(listRoutes)
const routeChoices = computed(() => routeList.data.value?.items.map((r) => r.name) ?? [])
void load()
void routeList.load()
useRefresh((e) => e.kind === 'pickup' && !before.value, load)

let timer: ReturnType<typeof setTimeout> | undefined
function ask() {
  const query: Record<string, string> = {}
  if (name.value) query.name = name.value
  if (output.value) query.output = output.value
  if (routeName.value) query.route = routeName.value
  if (states.value.length) query.state = states.value.join(',')
  if (span.value) query.span = span.value
  if (text('lane')) query.lane = text('lane')
  if (before.value) query.before = String(before.value)
  void router.replace({ query })
  clearTimeout(timer)
  timer = setTimeout(load, 150)
}
watch([name, output, routeName, states, span], () => {
  top.value = 0
  trail.value = []
  ask()
})
watch(trail, ask)
const older = () => data.value && (trail.value = [...trail.value, data.value.next])
const newer = () => (trail.value = trail.value.slice(0, -1))
const filtered = computed(() => !!(name.value || output.value || routeName.value || states.value.length || span.value || text('lane')))
const asking = ref(false)
// What is run again is what is listed: the dialog names what of it can be, and why the rest
// cannot.
const which = computed<AgainRequest>(() => ({
  route: routeName.value || undefined,
  name: name.value || undefined,
  lane: text('lane') || undefined,
  states: states.value.length ? states.value : stateChoices.map((s) => s.value),
  since: span.value ? new Date(Date.now() - Number(span.value) * 3_600_000).toISOString() : undefined,
}))
function clear() {
  name.value = output.value = ''
  routeName.value = span.value = null
  states.value = []
}
</script>

<template>
  <main class="page">
    <div class="head">
      <h1>Pickups</h1>
      <span class="space" />
      <InputText v-model="name" class="filter" placeholder="File name, or with *  ( / )" aria-label="File name" size="small" />
      <InputText v-model="output" class="filter" placeholder="Name of an output" aria-label="Name of an output" title="The whole name of a file that was delivered, or a pattern with *" size="small" />
      <Select v-model="routeName" :options="routeChoices" placeholder="Any route" aria-label="Route" show-clear size="small" />
      <MultiSelect v-model="states" :options="stateChoices" option-label="label" option-value="value" placeholder="Any state" aria-label="State" size="small" :max-selected-labels="2" />
      <Select v-model="span" :options="spans" option-label="label" option-value="value" placeholder="Any time" aria-label="Time" show-clear size="small" />
    </div>
    <StandIn v-if="problem || !data" :problem="problem" :loading="loading" :stale="!!data" @retry="load" />
    <template v-if="data">
      <div v-if="data.items.length" @pointerenter="over = true" @pointerleave="over = false">
        <p v-if="fresh" class="fresh"><Button :label="`${fresh} new`" size="small" severity="secondary" outlined @click="top = 0" /></p>
        <PickupTable :pickups="shown" route />
      </div>
      <StandIn v-else>
        <template v-if="filtered || before">
          <p>No pickup matches.</p>
          <p><Button label="Clear the filter" size="small" severity="secondary" outlined @click="clear" /></p>
        </template>
        <p v-else>Nothing has been picked up yet. Start a route and drop a file into its folder.</p>
      </StandIn>
      <div v-if="data.items.length" class="pages">
        <Button label="Run these again…" size="small" severity="secondary" outlined :disabled="!filtered || !!output" title="All that the filter matches, not only this page" @click="asking = true" />
        <span class="space" />
        <Button label="Newer" size="small" severity="secondary" outlined :disabled="!trail.length" @click="newer" />
        <Button label="Older" size="small" severity="secondary" outlined :disabled="!data.next" @click="older" />
      </div>
      <AgainDialog v-model="asking" :which="which" @done="load" />
    </template>
  </main>
</template>

<style scoped>
.filter { width: 14rem; }
.fresh { position: absolute; margin: -2.2rem 0 0; }
.space { flex: 1; }
.pages { display: flex; gap: 0.5rem; justify-content: flex-end; margin-top: 0.8rem; }
</style>
