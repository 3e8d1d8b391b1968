<script setup lang="ts">
import Button from 'primevue/button'
import { computed, ref, watch } from 'vue'
import { original, pickup, runAgain, type Run } from '../../client'
import { useRefresh } from '../../client/events'
import { useLoad } from '../../client/load'
import BalanceLine from '../../parts/BalanceLine.vue'
import StandIn from '../../parts/StandIn.vue'
import StateMark from '../../parts/StateMark.vue'
import { size } from '../../words'
import AgainDialog from './AgainDialog.vue'
import FindingLine from './FindingLine.vue'
import RecordList from './RecordList.vue'
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
const asking = ref(false)
const ended = computed(() => data.value?.state === 'delivered' || data.value?.state === 'rejected')

async function again(revision: 'now' | 'then') {
  asking.value = false
  try {
    await runAgain({ pickups: [props.id], revision })
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
        <BalanceLine v-if="run" :records="run.records_in" :good="run.good" :rejected="run.rejected" :filtered="run.filtered" />
        <span class="space" />
        <Button label="Original" size="small" severity="secondary" outlined :disabled="!data.sha256" @click="download" />
        <Button label="Run again" size="small" :disabled="!ended" @click="asking = true" />
      </div>
      <p class="facts faint">
        Pickup {{ data.id }} of <RouterLink :to="{ name: 'route', params: { name: data.route } }">{{ data.route }}</RouterLink>,
        {{ size(data.size) }}, from <span class="mono">{{ data.path }}</span>
      </p>
      <p v-if="data.reason" class="trouble">{{ data.reason }}</p>
      <div class="columns">
        <TimeLine :pickup="data" :run="run?.id" @choose="(r) => (chosen = r)" />
        <div class="main">
          <template v-if="run">
            <div v-if="run.findings.length" class="sheet about">
              <FindingLine v-for="(f, i) in run.findings" :key="i" :finding="f" />
            </div>
            <RecordList :key="run.id" :run="run" />
          </template>
          <StandIn v-else><p>The route has not run over this file yet.</p></StandIn>
        </div>
      </div>
      <AgainDialog v-model="asking" :pickup="data" @go="again" />
    </template>
  </main>
</template>

<style scoped>
h1.mono { font-size: 1.2rem; }
.facts { margin: -0.4rem 0 1rem; font-size: 0.92rem; overflow-wrap: anywhere; }
.trouble { border-left: 3px solid var(--warn); padding-left: 0.8rem; }
.columns { display: grid; grid-template-columns: 19rem 1fr; gap: 1.2rem; align-items: start; }
.main { min-width: 0; }
.about { padding: 0.6rem 1rem; margin-bottom: 1rem; }
</style>
