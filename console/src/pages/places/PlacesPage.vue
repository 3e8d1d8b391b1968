<script setup lang="ts">
// Where files come from and go to: how each place does, what waits for it, and what it can do.
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'
import InputText from 'primevue/inputtext'
import { computed, ref } from 'vue'
import { places, tryPlace, type EnvironmentPlace } from '../../client'
import { useRefresh } from '../../client/events'
import { useLoad } from '../../client/load'
import StandIn from '../../parts/StandIn.vue'
import StateMark from '../../parts/StateMark.vue'
import { ago, many, moment, number } from '../../words'

const { data, problem, loading, load } = useLoad(places)
void load()
useRefresh((e) => e.kind !== 'progress', load)

const tried = ref<EnvironmentPlace>()
const open = computed({ get: () => !!tried.value, set: (is) => is || (tried.value = undefined) })
const folder = ref('')
const steps = useLoad(() => tryPlace(tried.value?.name ?? '', folder.value))
// The folders that routes use are what one tries first.
const folders = computed(() => [...new Set(tried.value?.uses.map((u) => u.folder.replace(/^\{[^}]*\}/, '')).filter((f) => f))])
function start(p: EnvironmentPlace) {
  steps.data.value = undefined
  tried.value = p
  folder.value = folders.value[0] ?? ''
  void again()
}
async function again() {
  steps.data.value = undefined
  await steps.load()
  await load()
}
// Servers come first, and what is away before all.
const rank = (p: EnvironmentPlace) => (p.state === 'away' ? 0 : p.kind === 'folder' ? 2 : 1)
const list = computed(() => [...(data.value?.items ?? [])].sort((a, b) => rank(a) - rank(b)))
const words = { 'takes files from': 'files are taken by', 'delivers to': 'outputs come from', 'rejects to': 'what is rejected comes from' } as Record<string, string>
const byUse = (p: EnvironmentPlace) => {
  const out: Record<string, EnvironmentPlace['uses']> = {}
  for (const what of Object.keys(words)) if (p.uses.some((u) => u.what === what)) out[what] = []
  for (const u of p.uses) {
    const of = (out[u.what] ??= [])
    if (!of.some((o) => o.route === u.route)) of.push(u)
  }
  return out
}
const waits = (p: EnvironmentPlace) => {
  const of = []
  if (p.waiting) of.push(`${many(p.waiting, 'output')} to be brought there`)
  if (p.tried) of.push(`${number(p.tried)} of them tried in vain`)
  if (p.person) of.push(`${number(p.person)} for a person`)
  if (p.fetching) of.push(`${many(p.fetching, 'file')} being fetched`)
  return of.join(', ')
}
</script>

<template>
  <main class="page">
    <div class="head">
      <h1>Places</h1>
    </div>
    <StandIn v-if="problem || !data" :problem="problem" :loading="loading" :stale="!!data" @retry="load" />
    <template v-if="data">
      <StandIn v-if="!data.items.length"><p>The service has no places. Its environment names them under <code>places:</code> (<code>ydrion serve --environment FILE</code>).</p></StandIn>
      <table v-else class="list places">
        <thead>
          <tr><th>Place</th><th>State</th><th>Where</th><th>Waiting</th><th>Used by</th><th></th></tr>
        </thead>
        <tbody>
          <template v-for="p in list" :key="p.name">
            <tr :data-place="p.name" :class="{ first: p.problem }">
              <td><strong>{{ p.name }}</strong> <span class="faint">{{ p.kind }}</span></td>
              <td><StateMark :state="p.state" /></td>
              <td class="mono where">{{ p.where }}</td>
              <td>{{ waits(p) || '–' }}</td>
              <td class="uses">
                <div v-for="(list, what) in byUse(p)" :key="what">
                  <span class="faint">{{ words[what] }}</span>
                  <span v-for="(u, i) in list" :key="u.route">{{ i ? ', ' : ' ' }}<RouterLink :to="{ name: 'route', params: { name: u.route } }" :title="u.folder">{{ u.route }}</RouterLink></span>
                </div>
                <span v-if="!p.uses.length" class="faint">no route</span>
              </td>
              <td class="act"><Button label="Try" size="small" severity="secondary" outlined @click="start(p)" /></td>
            </tr>
            <tr v-if="p.problem" class="why">
              <td colspan="6">{{ p.problem }}<span v-if="p.since" class="faint"> since {{ moment(p.since) }}, {{ ago(p.since) }}</span></td>
            </tr>
          </template>
        </tbody>
      </table>
    </template>
    <Dialog v-model:visible="open" modal :header="`Try ${tried?.name}`" dismissable-mask class="trying">
      <p class="faint">A small hidden file is written there, renamed, read and removed again.</p>
      <form @submit.prevent="again">
        <InputText v-model="folder" placeholder="Folder below the place" aria-label="Folder" list="tried-folders" size="small" />
        <datalist id="tried-folders"><option v-for="f in folders" :key="f" :value="f" /></datalist>
        <Button type="submit" label="Try again" size="small" :disabled="steps.loading.value" />
      </form>
      <StandIn v-if="steps.problem.value || !steps.data.value" :problem="steps.problem.value" :loading="steps.loading.value" @retry="again" />
      <table v-else class="list steps">
        <tbody>
          <tr v-for="s in steps.data.value.items" :key="s.what" :data-ok="s.ok">
            <td>{{ s.what }}</td>
            <td><StateMark :state="s.ok ? 'works' : 'fails'" /></td>
            <td class="num">{{ number(Math.round(s.seconds * 1000)) }} ms</td>
            <td>{{ s.says }}</td>
          </tr>
        </tbody>
      </table>
    </Dialog>
  </main>
</template>

<style scoped>
.places tr, .steps tr { cursor: default; }
.where { overflow-wrap: anywhere; max-width: 24rem; }
.uses { line-height: 1.5; max-width: 34rem; }
.act { text-align: right; }
tr.first td { border-bottom: 0; }
.why td { color: var(--bad); padding-top: 0; }
form { display: flex; gap: 0.6rem; margin-bottom: 0.8rem; }
form input { flex: 1; }
.steps { min-width: 34rem; }
</style>
