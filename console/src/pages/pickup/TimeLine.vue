<script setup lang="ts">
import { computed } from 'vue'
import type { PickupDetail, Run } from '../../client'
import { between, clock, day, many, size } from '../../words'

const props = defineProps<{ pickup: PickupDetail; run?: number }>()
defineEmits<{ choose: [run: number] }>()

const oldest = computed(() => [...props.pickup.runs].reverse())
const kinds: Record<string, string> = { good: 'good', rejected: 'rejected', findings: 'findings', report: 'report' }
const few = (r: Run) => r.deliveries.slice(0, 6)
</script>

<template>
  <ol class="sheet">
    <li><time>{{ clock(pickup.noticed_at, true) }}</time> noticed on {{ day(pickup.noticed_at) }}</li>
    <li><time>{{ clock(pickup.claimed_at, true) }}</time> claimed</li>
    <li v-if="pickup.taken_at"><time>{{ clock(pickup.taken_at, true) }}</time> taken into the archive</li>
    <template v-for="r in oldest" :key="r.id">
      <li :class="{ on: r.id === run }">
        <time>{{ clock(r.started_at, true) }}</time>
        <a href="#" :aria-current="r.id === run" @click.prevent="$emit('choose', r.id)">run {{ r.id }}</a> {{ r.again ? 'asked for' : 'began' }}, revision {{ r.revision_number }}
      </li>
      <li v-if="r.committed_at"><time>{{ clock(r.committed_at, true) }}</time> committed</li>
      <li v-if="r.ended_at">
        <time>{{ clock(r.ended_at, true) }}</time> published {{ many(r.outputs, 'output') }}, {{ between(r.started_at, r.ended_at) }} after it began
        <ul v-if="r.id === run">
          <li v-for="d in few(r)" :key="d.number">
            <span class="kind faint">{{ kinds[d.kind] }}</span>
            <span class="mono">{{ d.name }}</span> <span class="faint">{{ size(d.size) }}</span>
            <div v-if="d.number === 1 || d.folder !== r.deliveries[d.number - 2]?.folder" class="faint folder">in {{ d.folder }}</div>
          </li>
          <li v-if="r.outputs > few(r).length" class="faint">and {{ many(r.outputs - few(r).length, 'more output') }}</li>
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
.folder { font-size: 0.85rem; }
</style>
