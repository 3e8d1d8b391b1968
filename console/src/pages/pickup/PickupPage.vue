<script setup lang="ts">
import Button from 'primevue/button'
import { computed, ref, watch } from 'vue'
import { decide, original, pickup, type DecisionWord, type Run, type Said } from '../../client'
import { useRefresh } from '../../client/events'
import { useLoad } from '../../client/load'
import ActList from '../../parts/ActList.vue'
import BalanceLine from '../../parts/BalanceLine.vue'
import SayDialog from '../../parts/SayDialog.vue'
import StandIn from '../../parts/StandIn.vue'
import StateMark from '../../parts/StateMark.vue'
import { many, moment, size } from '../../words'
import AgainDialog from './AgainDialog.vue'
import FindingLine from './FindingLine.vue'
import RecordList from './RecordList.vue'
import RunFiles from './RunFiles.vue'
import TimeLine from './TimeLine.vue'

const props = defineProps<{ id: number }>()
const { data, problem, loading, load } = useLoad(() => pickup(props.id))
void load()
useRefresh((e) => e.pickup === props.id && e.kind === 'pickup', load)

const chosen = ref<number>()
const run = computed<Run | undefined>(() => data.value?.runs.find((r) => r.id === chosen.value) ?? data.value?.runs[0])
watch(
  () => data.value?.runs.length,
  () => (chosen.value = undefined),
)
// What became of this file, where the run is of several.
const own = computed(() => run.value?.files.find((f) => f.pickup === props.id) ?? run.value)
const asking = ref(false)
const ended = computed(() => ['delivered', 'rejected', 'set aside'].includes(data.value?.state ?? ''))

const which = computed(() => ({ pickups: [props.id] }))

// What a person can say of a pickup that cannot go on.
const choices = computed<{ word: DecisionWord; label: string; title: string }[]>(() => {
  const p = data.value
  // What it has for a server may be on its way there, in vain so far.
  const onTheWay = p?.state === 'committed' && !!p.runs[0]?.deliveries.some((d) => d.state === 'open' && d.folder.startsWith('{') && (d.tries > 0 || p.reason))
  if (!p || (p.state !== 'held' && p.state !== 'uncertain' && !onTheWay)) return []
  const committed = !!p.runs[0]?.committed_at
  const list: { word: DecisionWord; label: string; title: string }[] = []
  if (p.state === 'uncertain') list.push({ word: 'arrived', label: 'It has arrived', title: 'what is uncertain has arrived' })
  if (p.state === 'held' || onTheWay) list.push({ word: 'try', label: 'Try now', title: 'try it again at once' })
  if (p.state === 'held' && !committed && !p.next_try) list.push({ word: 'admit', label: 'Take it', title: 'it is no duplicate' })
  if (p.lane && !p.passed) list.push({ word: 'pass', label: 'Let others pass', title: 'those behind it in its lane go on; it goes on waiting' })
  if (committed) list.push({ word: 'abandoned', label: 'Abandon the rest', title: 'what is not delivered yet will not be' })
  else list.push({ word: 'withdraw', label: 'Withdraw', title: 'nothing is delivered; the original stays in the archive' })
  return list
})
// What cannot be taken back is asked first.
const asked = ref<{ word: DecisionWord; label: string; title: string }>()
const saying = ref(false)
function choose(c: { word: DecisionWord; label: string; title: string }) {
  asked.value = c
  if (c.word === 'try') void say(c.word)
  else saying.value = true
}
async function say(word: DecisionWord, said?: Said) {
  try {
    await decide(props.id, word, said)
  } catch (e) {
    problem.value = (e as Error).message
    return
  }
  await load()
}

async function download() {
  try {
    if (data.value) await original(data.value)
  } catch (e) {
    problem.value = (e as Error).message
  }
}
</script>

<template>
  <main class="page">
    <StandIn v-if="problem || !data" :problem="problem" :loading="loading" :stale="!!data" @retry="load" />
    <template v-if="data">
      <div class="head">
        <h1 class="mono">{{ data.name }}</h1>
        <StateMark :state="data.state" :rejected="data.rejected" :whole="data.rejected_whole" />
        <BalanceLine v-if="own" :records="own.records_in" :good="own.good" :rejected="own.rejected" :filtered="own.filtered" :merged="own.merged" :warnings="own.warnings" />
        <span class="space" />
        <Button label="Original" size="small" severity="secondary" outlined :disabled="!data.sha256 || !data.archived" @click="download" />
        <Button label="Run again" size="small" :disabled="!ended || !data.archived" @click="asking = true" />
      </div>
      <p class="facts faint">
        Pickup {{ data.id }} of <RouterLink :to="{ name: 'route', params: { name: data.route } }">{{ data.route }}</RouterLink>,
        {{ size(data.size) }}, from <span class="mono">{{ data.path }}</span><template v-if="data.lane">, lane <RouterLink :to="{ name: 'pickups', query: { route: data.route, lane: data.lane } }">{{ data.lane }}</RouterLink></template><template v-if="data.business_key">, key {{ data.business_key }}</template><template v-if="data.sha256 && !data.archived">; its original is no longer kept</template>
      </p>
      <p v-if="data.mail" class="facts faint">Attached to a mail from <span class="mono">{{ data.mail.from }}</span>{{ data.mail.date ? ` of ${moment(data.mail.date)}` : '' }}: {{ data.mail.subject || 'without a subject' }}</p>
      <div v-if="data.reason || choices.length" :class="{ trouble: data.state !== 'set aside' }">
        <p>{{ data.reason }}</p>
        <p v-if="choices.length" class="faint">{{ data.next_try ? `Tried ${many(data.tries, 'time')} so far, again at ${moment(data.next_try)}.` : data.state === 'committed' ? 'It is tried again by itself; what goes elsewhere does not wait for it.' : 'It waits for a person.' }}</p>
        <p v-if="choices.length" class="choices">
          <Button v-for="c in choices" :key="c.word" :label="c.label" :title="c.title" size="small" severity="secondary" outlined @click="choose(c)" />
        </p>
      </div>
      <ActList v-if="data.acts.length" class="did" :acts="data.acts" />
      <div class="columns">
        <TimeLine :pickup="data" :run="run?.id" @choose="(r) => (chosen = r)" />
        <div class="main">
          <template v-if="run">
            <p v-if="run.branches.length" class="faint branches"><span v-for="b in run.branches" :key="b.name">{{ b.name }} {{ many(b.records, 'record') }}</span></p>
            <RunFiles v-if="run.files.length > 1" :run="run" :pickup="id" />
            <div v-if="run.findings.length" class="sheet about">
              <FindingLine v-for="(f, i) in run.findings" :key="i" :finding="f" />
            </div>
            <RecordList :key="run.id" :run="run" :start="Number($route.query.record) || undefined" />
          </template>
          <StandIn v-else><p>The route has not run over this file yet.</p></StandIn>
        </div>
      </div>
      <SayDialog v-if="asked" v-model="saying" :title="`${asked.label}?`" :text="`${data.name}: ${asked.title}.`" :button="asked.label" @said="(said) => asked && say(asked.word, said)" />
      <AgainDialog v-model="asking" :which="which" @done="load" />
    </template>
  </main>
</template>

<style scoped>
h1.mono { font-size: 1.2rem; }
.facts { margin: -0.4rem 0 1rem; font-size: 0.92rem; overflow-wrap: anywhere; }
.trouble p { margin: 0 0 0.4rem; }
.choices { display: flex; gap: 0.5rem; }
.trouble { margin-bottom: 1rem; border-left: 3px solid var(--warn); padding-left: 0.8rem; }
.did { margin-bottom: 1rem; }
.columns { display: grid; grid-template-columns: 19rem 1fr; gap: 1.2rem; align-items: start; }
.main { min-width: 0; }
.branches { margin: 0 0 0.8rem; display: flex; flex-wrap: wrap; gap: 0.2rem 1.2rem; font-size: 0.92rem; }
.about { padding: 0.6rem 1rem; margin-bottom: 1rem; }
</style>
