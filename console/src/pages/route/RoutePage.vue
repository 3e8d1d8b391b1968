<script setup lang="ts">
import Button from 'primevue/button'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { decide, expectations, lanes, pauseRoute, pickups, route, startRoute, stopRoute, take, type Lane } from '../../client'
import { useEvents, useRefresh } from '../../client/events'
import { useLoad } from '../../client/load'
import ActList from '../../parts/ActList.vue'
import ExpectedTable from '../../parts/ExpectedTable.vue'
import LaneTable from '../../parts/LaneTable.vue'
import PickupTable from '../../parts/PickupTable.vue'
import SayDialog from '../../parts/SayDialog.vue'
import StandIn from '../../parts/StandIn.vue'
import StateMark from '../../parts/StateMark.vue'
import { many, moment, number, passText, underWay } from '../../words'
import HandDialog from './HandDialog.vue'
import StageBand from './StageBand.vue'

const props = defineProps<{ name: string }>()
const { data, problem, loading, load } = useLoad(() => route(props.name))
const latest = useLoad(() => pickups({ route: props.name, limit: 10 }))
const refresh = () => Promise.all([load(), latest.load(), held.load(), expected.load()])
useRefresh((e) => e.route === props.name && e.kind !== 'progress', refresh)

// The runs that are under way are asked for when one tells that it has got on.
let asking = false
useEvents(async (e) => {
  if (e.route !== props.name || e.kind !== 'progress' || asking) return
  asking = true
  await load()
  asking = false
})
const busy = ref(false)
const shownFile = ref('')
const file = computed(() => data.value?.files.find((f) => f.name === shownFile.value))

const handing = ref(false)
const router = useRouter()
const held = useLoad(() => lanes(props.name))
const expected = useLoad(() => expectations(props.name))

async function act(what: Promise<unknown>) {
  busy.value = true
  try {
    await what
  } catch (e) {
    problem.value = (e as Error).message
    return
  } finally {
    busy.value = false
  }
  await refresh()
}
const stopping = ref(false)
const toggle = () => (data.value?.state === 'stopped' ? act(startRoute(props.name)) : (stopping.value = true))
const pausing = ref(false)
const pause = () => (data.value?.state === 'paused' ? act(startRoute(props.name)) : (pausing.value = true))
const passing = ref(false)
const lane = ref<Lane>()
function pass(l: Lane) {
  lane.value = l
  passing.value = true
}
// below is a waiting file's path below the listened folder.
const below = (path: string, file: string) => {
  const folders = data.value?.waiting_files.map((w) => w.path.slice(0, -w.name.length)) ?? []
  const shortest = folders.reduce((a, b) => (b.length < a.length ? b : a), folders[0] ?? '')
  return path.startsWith(shortest) ? path.slice(shortest.length) : file
}
void refresh()
</script>

<template>
  <main class="page">
    <StandIn v-if="problem || !data" :problem="problem" :loading="loading" :stale="!!data" @retry="load" />
    <template v-if="data">
      <div class="head">
        <h1>{{ data.name }}</h1>
        <StateMark :state="data.state" />
        <span v-if="data.paused_until && data.paused_until < '9000'" class="faint">until {{ moment(data.paused_until) }}</span>
        <span class="faint">revision {{ data.revision_number }}, published {{ moment(data.published_at) }}</span>
        <span class="space" />
        <Button label="Hand a file…" size="small" severity="secondary" outlined @click="handing = true" />
        <Button v-if="data.state !== 'stopped'" label="Take now" title="Take what is ready in the folder, whatever the timetable says" size="small" severity="secondary" outlined :disabled="data.state === 'paused'" @click="act(take(name))" />
        <Button v-if="data.state !== 'stopped'" :label="data.state === 'paused' ? 'Go on' : 'Pause'" size="small" severity="secondary" outlined @click="pause" />
        <Button :label="data.state === 'stopped' ? 'Start' : 'Stop'" size="small" :severity="data.state === 'stopped' ? undefined : 'secondary'" :outlined="data.state !== 'stopped'" :loading="busy" @click="toggle" />
      </div>
      <p v-if="data.problem" class="trouble">{{ data.problem }}</p>
      <p v-if="data.notes" class="notes">{{ data.notes }}</p>
      <section v-for="c in data.current" :key="c.run" class="sheet run" role="status">
        <p><RouterLink :to="{ name: 'pickup', params: { id: c.pickup } }">{{ c.name }}</RouterLink> <span class="faint">{{ underWay(c) }}, since {{ moment(c.since) }}</span></p>
        <progress v-if="c.about" :value="c.balance.in" :max="c.about" />
        <p v-if="c.branches.length" class="faint"><span v-for="b in c.branches" :key="b.name">{{ b.name }} {{ number(b.records) }}</span></p>
      </section>
      <div class="sheet">
        <StageBand v-for="s in data.stages" :key="s.name" :stage="s" />
      </div>
      <template v-if="data.waiting_files.length">
        <h2>{{ many(data.waiting, 'file') }} waiting in the folder</h2>
        <table class="list waiting">
          <tbody>
            <tr v-for="w in data.waiting_files" :key="w.path"><td class="name mono">{{ w.name }}</td><td>{{ w.reason }}</td><td class="num faint">since {{ moment(w.since) }}</td><td class="num"><Button label="Take it" title="Take it now, whatever it waits for" size="small" severity="secondary" outlined @click="act(take(name, below(w.path, w.name)))" /></td></tr>
          </tbody>
        </table>
      </template>
      <template v-if="held.data.value?.items.length">
        <h2>Lanes that are held</h2>
        <LaneTable :lanes="held.data.value.items" @pass="pass" />
      </template>
      <template v-if="expected.data.value?.items.length">
        <h2>Expected</h2>
        <ExpectedTable :expected="expected.data.value.items.slice(0, 6)" />
      </template>
      <h2>Latest pickups <RouterLink class="more" :to="{ name: 'pickups', query: { route: name } }">all of this route</RouterLink></h2>
      <PickupTable v-if="latest.data.value?.items.length" :pickups="latest.data.value.items" />
      <StandIn v-else :problem="latest.problem.value" :loading="!latest.data.value"><p>This route has not picked anything up yet.</p></StandIn>
      <template v-if="data.acts.length">
        <h2>What people did</h2>
        <ActList :acts="data.acts.slice(0, 8)" />
      </template>
      <h2>What this revision is made of</h2>
      <div class="files">
        <button v-for="f in data.files" :key="f.name" class="mono" :class="{ on: f.name === shownFile }" @click="shownFile = f.name === shownFile ? '' : f.name">{{ f.name }}</button>
      </div>
      <pre v-if="file" class="sheet mono">{{ file.content.replaceAll('\r', '\n') }}</pre>
      <p class="faint small">Revision {{ data.revision.slice(0, 12) }}. {{ number(data.files.length) }} files, identified by their content.</p>
      <SayDialog v-model="stopping" :title="`Stop ${name}?`" text="What is under way is finished. New files wait in the folder until the route is started." button="Stop it" @said="(said) => act(stopRoute(name, said))" />
      <SayDialog v-model="pausing" :title="`Pause ${name}?`" text="Files are noticed and wait; none is taken until somebody lets the route go on." button="Pause it" @said="(said) => act(pauseRoute(name, undefined, said))" />
      <SayDialog v-if="lane" v-model="passing" :title="`Let others pass ${lane.name}?`" :text="passText(lane)" button="Let them pass" @said="(said) => lane && act(decide(lane.pickup, 'pass', said))" />
      <HandDialog v-model="handing" :route="name" @handed="(id) => router.push({ name: 'pickup', params: { id } })" />
    </template>
  </main>
</template>

<style scoped>
.notes { white-space: pre-line; margin: 0 0 1rem; max-width: 60rem; color: var(--faint); }
.trouble { border-left: 3px solid var(--bad); padding-left: 0.8rem; }
.more { font-size: 0.87rem; font-weight: 400; margin-left: 0.8rem; }
.waiting tr { cursor: default; }
.run { padding: 0.5rem 0.9rem; margin-bottom: 0.8rem; }
.run p { margin: 0.15rem 0; }
.run p span + span { margin-left: 1.2rem; }
.run progress { width: 100%; height: 0.6rem; accent-color: var(--good); }
.files { display: flex; flex-wrap: wrap; gap: 0.4rem; }
.files button { background: var(--sheet); color: var(--act); border: 1px solid var(--line); border-radius: 3px; padding: 0.25rem 0.6rem; cursor: pointer; }
.files button.on { border-color: var(--act); background: var(--band); }
pre { padding: 0.9rem 1.1rem; overflow: auto; max-height: 30rem; margin: 0.7rem 0; }
.small { font-size: 0.85rem; }
</style>
