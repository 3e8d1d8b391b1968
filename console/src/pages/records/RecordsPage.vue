<script setup lang="ts">
// Records that have a text: which file and line they came in, and what they went into.
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import Select from 'primevue/select'
import { computed, onUnmounted, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { findRecords, routes as listRoutes, type FoundRecord } from '../../client'
import { useLoad } from '../../client/load'
import { useOpen, useRows } from '../../keys'
import StandIn from '../../parts/StandIn.vue'
import StateMark from '../../parts/StateMark.vue'
import { many, number } from '../../words'

// What is looked for lives in the address, so that it can be linked to.
const address = useRoute()
const router = useRouter()
const said = (key: string) => (typeof address.query[key] === 'string' ? (address.query[key] as string) : '')
const text = ref(said('text'))
const routeName = ref<string | null>(said('route') || null)
const span = ref<string | null>(said('span') || null)
const spans = [
  { label: 'the last 24 hours', value: '24' },
  { label: 'the last 7 days', value: '168' },
  { label: 'the last 90 days', value: '2160' },
]
const routeList = useLoad(listRoutes)
void routeList.load()
const routeChoices = computed(() => routeList.data.value?.items.map((r) => r.name) ?? [])

const found = ref<FoundRecord[]>([])
const missed = ref<string[]>([])
const asked = ref('') // what has been looked for
const looked = ref(0)
const next = ref(0) // pickups before this one have not been looked through,
const from = ref(0) // nor, in the first of them, records from this one on
const problem = ref('')
const looking = ref(false)
const page = 50
let stop = new AbortController()
onUnmounted(() => stop.abort())

// One answer takes ten seconds at most: they are asked for until there is a page full, or nothing more.
async function look(more: boolean) {
  if (!text.value) return
  stop.abort()
  const mine = (stop = new AbortController())
  if (!more) {
    found.value = []
    missed.value = []
    looked.value = next.value = from.value = 0
    asked.value = text.value
    const query: Record<string, string> = { text: text.value }
    if (routeName.value) query.route = routeName.value
    if (span.value) query.span = span.value
    void router.replace({ query })
  }
  looking.value = true
  problem.value = ''
  const enough = found.value.length + page
  const since = span.value ? new Date(Date.now() - Number(span.value) * 3_600_000).toISOString() : undefined
  try {
    do {
      const answer = await findRecords({ text: asked.value, route: routeName.value || undefined, since, before: next.value || undefined, from: from.value || undefined, limit: enough - found.value.length }, mine.signal)
      if (mine !== stop) return
      found.value = [...found.value, ...answer.items]
      looked.value += answer.looked
      missed.value = [...missed.value, ...answer.missed]
      next.value = answer.next
      from.value = answer.next_from
    } while (next.value && found.value.length < enough)
  } catch (e) {
    if (mine === stop && !mine.signal.aborted) problem.value = (e as Error).message
  } finally {
    if (mine === stop) looking.value = false
  }
}
function cancel() {
  stop.abort()
  looking.value = false
}
if (text.value) void look(false)

const to = (r: FoundRecord) => ({ name: 'pickup', params: { id: r.pickup }, query: r.record ? { record: String(r.record) } : {} })
const open = useOpen<FoundRecord>(to)
const at = useRows(found, open, (r) => `${r.pickup} ${r.record} ${r.line}`)

// The text where it stands, with what is around it.
function around(raw: string): string[] {
  const plain = raw.replaceAll('\r\n', '\n').replaceAll('\r', '\n')
  const i = plain.indexOf(asked.value)
  if (i < 0) return [plain.slice(0, 160), '', '']
  const from = Math.max(0, i - 60)
  const end = i + asked.value.length
  return [(from ? '…' : '') + plain.slice(from, i), plain.slice(i, end), plain.slice(end, end + 100) + (plain.length > end + 100 ? '…' : '')]
}
</script>

<template>
  <main class="page">
    <form class="head" @submit.prevent="look(false)">
      <h1>Records</h1>
      <span class="space" />
      <InputText v-model="text" class="filter" placeholder="A text that the record has  ( / )" aria-label="Text" size="small" />
      <Select v-model="routeName" :options="routeChoices" placeholder="Any route" aria-label="Route" show-clear size="small" />
      <Select v-model="span" :options="spans" option-label="label" option-value="value" placeholder="Any time" aria-label="Time" show-clear size="small" />
      <Button type="submit" label="Find" size="small" :disabled="!text" />
    </form>
    <StandIn v-if="problem" :problem="problem" :stale="!!found.length" @retry="look(!!looked)" />
    <table v-if="found.length" class="list found">
      <thead>
        <tr><th>File</th><th class="num">Line</th><th>Record</th><th>As it came</th><th>Went into</th></tr>
      </thead>
      <tbody>
        <tr v-for="(r, i) in found" :key="`${r.pickup} ${r.record} ${r.line}`" :class="{ at: i === at }" @click="open(r, $event)" @auxclick="$event.button === 1 && open(r, $event)">
          <td class="name">
            <RouterLink :to="to(r)" @click.stop @auxclick.stop>{{ r.name }}</RouterLink>
            <div class="faint small">{{ r.route }}, pickup {{ r.pickup }}</div>
          </td>
          <td class="num">{{ number(r.line) }}</td>
          <td><StateMark :state="r.outcome" /></td>
          <td class="mono raw">{{ around(r.raw)[0] }}<mark>{{ around(r.raw)[1] }}</mark>{{ around(r.raw)[2] }}</td>
          <td class="into">
            <div v-for="f in r.went_into" :key="f">
              <span class="mono">{{ f.slice(f.lastIndexOf('/') + 1) }}</span>
              <div class="faint small">{{ f.slice(0, Math.max(f.lastIndexOf('/'), 0)) }}</div>
            </div>
          </td>
        </tr>
      </tbody>
    </table>
    <p v-for="m in missed" :key="m" class="said">Not looked into: {{ m }}</p>
    <p v-if="looking" class="said" role="status">
      Looked through {{ many(looked, 'pickup') }} so far<template v-if="next">, back to pickup {{ next }}</template>…
      <Button label="Stop" size="small" severity="secondary" outlined @click="cancel" />
    </p>
    <p v-else-if="asked && !problem" class="said" role="status">
      {{ found.length ? many(found.length, 'record') : 'No record' }} with “{{ asked }}” in {{ many(looked, 'pickup') }}<template v-if="next">; there are older ones</template>.
      <Button v-if="next" label="Look further back" size="small" severity="secondary" outlined @click="look(true)" />
    </p>
    <StandIn v-if="!asked && !problem">
      <p>Find records by a text in them: a tag, a number, a name, as it stands in the file.</p>
      <p>All originals that are kept are read again, newest first; a route or a time makes it quicker. Files that go on unread have no records.</p>
    </StandIn>
  </main>
</template>

<style scoped>
.filter { width: 18rem; }
.space { flex: 1; }
.small { font-size: 0.85rem; }
.raw { white-space: pre-wrap; overflow-wrap: anywhere; max-width: 34rem; }
.raw mark { background: var(--mark); color: inherit; }
.into { overflow-wrap: anywhere; max-width: 16rem; }
.said { display: flex; gap: 0.8rem; align-items: center; color: var(--faint); }
</style>
