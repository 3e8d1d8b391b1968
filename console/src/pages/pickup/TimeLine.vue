<script setup lang="ts">
import { computed } from 'vue'
import type { PickupDetail, Run } from '../../client'
import StateMark from '../../parts/StateMark.vue'
import { between, clock, day, many, size } from '../../words'

const props = defineProps<{ pickup: PickupDetail; run?: number }>()
defineEmits<{ choose: [run: number] }>()

const oldest = computed(() => [...props.pickup.runs].reverse())
const kinds: Record<string, string> = { good: 'good', rejected: 'rejected', findings: 'findings', report: 'report' }
const good = (r: Run) => r.deliveries.filter((d) => d.kind === 'good').slice(0, 4)
const others = (r: Run) => r.deliveries.filter((d) => d.kind !== 'good')
const more = (r: Run) => r.outputs - good(r).length - others(r).length
// groups are the outputs by the folder that each went to.
const groups = (r: Run) => {
  const folders = new Map<string, Run['deliveries']>()
  for (const d of [...good(r), ...others(r)]) {
    const key = `${d.kind === 'good'} ${d.folder}`
    folders.set(key, [...(folders.get(key) ?? []), d])
  }
  return [...folders.values()]
}
const lastGood = (r: Run) => groups(r).filter((list) => list[0].kind === 'good').length - 1
</script>

<template>
  <ol class="sheet">
    <li><time>{{ clock(pickup.noticed_at, true) }}</time> {{ pickup.origin === 'handed' ? 'handed over' : pickup.event === 'gone' ? 'found gone' : 'noticed' }} on {{ day(pickup.noticed_at) }}</li>
    <li><time>{{ clock(pickup.claimed_at, true) }}</time> claimed</li>
    <li v-if="pickup.taken_at"><time>{{ clock(pickup.taken_at, true) }}</time> taken into the archive</li>
    <template v-for="r in oldest" :key="r.id">
      <li :class="{ on: r.id === run }">
        <time>{{ clock(r.started_at, true) }}</time>
        <a href="#" :aria-current="r.id === run" @click.prevent="$emit('choose', r.id)">run {{ r.id }}</a> {{ r.same_as ? `the same as run ${r.same_as}` : r.again ? 'asked for' : 'began' }}, revision {{ r.revision_number }}
      </li>
      <li v-if="r.committed_at"><time>{{ clock(r.committed_at, true) }}</time> committed</li>
      <li v-if="r.committed_at">
        <template v-if="r.ended_at"><time>{{ clock(r.ended_at, true) }}</time> published {{ many(r.outputs - r.overtaken, 'output') }}<template v-if="r.overtaken > 0">, {{ many(r.overtaken, 'output') }} overtaken</template>, {{ between(r.started_at, r.ended_at) }} after it began</template>
        <template v-else>{{ many(r.outputs, 'output') }}, not all delivered yet</template>
        <ul v-if="r.id === run">
          <template v-for="(list, i) in groups(r)" :key="list[0].number">
            <li class="faint folder">in {{ list[0].folder }}</li>
            <li v-for="d in list" :key="d.number">
              <span class="kind faint">{{ kinds[d.kind] }}</span>
              <span class="mono">{{ d.name }}</span> <span class="faint">{{ size(d.size) }}</span>
              <StateMark v-if="d.state !== 'published'" :state="d.state" />
              <span v-if="d.state === 'published' && d.receipt" class="receipt faint">{{ d.receipt }}</span>
              <span v-for="(text, what) in d.said ?? {}" :key="what" class="receipt faint said">{{ what }} {{ text }}</span>
              <span v-if="d.state === 'overtaken'" class="receipt faint">{{ d.reason }}</span>
              <span v-if="d.state === 'open' && d.reason" class="wrong">{{ d.reason }}<template v-if="d.next_try">; it is tried again at {{ clock(d.next_try, true) }}</template></span>
            </li>
            <li v-if="i === lastGood(r) && more(r) > 0" class="faint">and {{ many(more(r), 'more good output') }}</li>
          </template>
        </ul>
      </li>
    </template>
  </ol>
</template>

<style scoped>
ol { list-style: none; margin: 0; padding: 0.8rem 1rem; font-size: 0.9rem; }
ol > li { padding: 0.2rem 0 0.2rem 0.9rem; border-left: 2px solid var(--line-strong); position: relative; }
ol > li::before { content: ''; position: absolute; left: -5px; top: 0.65rem; width: 8px; height: 8px; background: var(--sheet); border: 2px solid var(--line-strong); border-radius: 50%; }
ol > li.on::before { border-color: var(--act); background: var(--act); }
time { display: block; font-variant-numeric: tabular-nums; color: var(--faint); font-size: 0.85rem; }
ul { list-style: none; padding: 0.3rem 0 0; margin: 0; }
ul li { padding: 0.15rem 0; overflow-wrap: anywhere; }
.kind { display: inline-block; min-width: 4.3rem; }
.receipt { display: block; font-size: 0.85rem; }
.said { overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
.wrong { display: block; color: var(--bad); }
.folder { font-size: 0.85rem; padding-top: 0.4rem; }
</style>
