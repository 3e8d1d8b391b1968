<script setup lang="ts">
// One record: what came in on the left, what went out on the right, and its
// findings under the place they are about.
import { computed, ref } from 'vue'
import type { RecordView } from '../../client'
import StateMark from '../../parts/StateMark.vue'
import { many, number } from '../../words'
import FindingLine from './FindingLine.vue'
import LineList from './LineList.vue'
import MapSteps from './MapSteps.vue'

const props = defineProps<{ record: RecordView; unfolds?: boolean; explains?: boolean }>()
const emit = defineEmits<{ unfold: [record: number]; explain: [record: number] }>()
const bad = computed(() => new Set(props.record.findings.filter((f) => f.severity === 'error').map((f) => f.place.path)))
const view = ref<'fields' | 'text' | 'map'>('fields')
function show(wanted: 'fields' | 'text' | 'map') {
  view.value = wanted
  if (wanted === 'map' && !props.record.explained) emit('explain', props.record.record)
}
// Where the rows stand that went into it.
const rows = computed(() => {
  const of = props.record.sources ?? []
  const more = (props.record.rows ?? 0) - of.length
  return of.map((s) => s.line + (s.file ? ` of ${s.file}` : '')).join(', ') + (more > 0 ? ` and ${number(more)} more` : '')
})
// What it became, if its route has no branches; those have names.
const single = computed(() => (props.record.became.length === 1 && !props.record.became[0].branch ? props.record.became[0] : undefined))
const visible = (s: string) => s.replaceAll('\r', '⏎\n').replaceAll('\u0000', '␀')
</script>

<template>
  <section class="sheet pair" :class="record.outcome" :data-record="record.record">
    <header>
      <span>record <b>{{ record.record }}</b>, line {{ record.line }}<template v-if="record.file"> of <span class="mono">{{ record.file }}</span></template></span>
      <span v-if="(record.rows ?? 0) > 1" class="faint rows">{{ many(record.rows ?? 0, 'row') }}: lines {{ rows }}</span>
      <StateMark :state="record.outcome" />
      <span v-if="single?.files?.length" class="mono faint">{{ single.files[0].name }}</span>
      <span class="space" />
      <button v-if="view !== 'fields'" @click="show('fields')">by field</button>
      <button v-if="view !== 'text'" @click="show('text')">as text</button>
      <button v-if="explains && view !== 'map'" @click="show('map')">what the map did</button>
    </header>
    <div v-if="record.findings.length" class="findings"><FindingLine v-for="(f, i) in record.findings" :key="i" :finding="f" /></div>
    <div v-if="view === 'map'" class="map">
      <MapSteps v-for="e in record.explained" :key="e.branch" :explained="e" />
      <p v-if="!record.explained" class="faint nothing">One moment: the record is mapped again.</p>
      <p v-else-if="!record.explained.length" class="faint nothing">No map was at work: the record did not come so far, or goes on as it came.</p>
    </div>
    <div v-else-if="view === 'text'" class="sides">
      <pre class="mono">{{ visible(record.raw) }}</pre>
      <div>
        <template v-for="of in record.became" :key="of.branch">
          <h4 v-if="of.branch">{{ of.branch }} <span v-for="f in of.files" :key="f.destination" class="mono faint">{{ f.name }}</span></h4>
          <pre class="mono">{{ visible(of.made) }}</pre>
        </template>
      </div>
    </div>
    <div v-else class="sides">
      <LineList source :lines="record.fields" :bad="bad" :unfolds="unfolds" @unfold="emit('unfold', record.record)" />
      <div v-if="record.became.some((of) => of.branch || of.lines.length)">
        <template v-for="of in record.became" :key="of.branch">
          <h4 v-if="of.branch">{{ of.branch }} <span v-for="f in of.files" :key="f.destination" class="mono faint">{{ f.name }}</span></h4>
          <LineList :lines="of.lines" :unfolds="unfolds" @unfold="emit('unfold', record.record)" />
        </template>
      </div>
      <p v-else-if="single?.files?.length" class="faint nothing">It went on as it came.</p>
      <p v-else class="faint nothing">Nothing went out.</p>
    </div>
  </section>
</template>

<style scoped>
.pair { margin-bottom: 0.8rem; }
header { display: flex; gap: 1rem; align-items: center; padding: 0.4rem 0.9rem; border-bottom: 1px solid var(--line); background: var(--band); }
.space { flex: 1; }
header button { border: 0; background: none; color: var(--act); font: inherit; font-size: 0.87rem; cursor: pointer; }
.findings { padding: 0.3rem 0.9rem; border-bottom: 1px solid var(--line); }
.map { padding: 0.5rem 0.9rem; max-height: 42rem; overflow: auto; }
.map > * + * { margin-top: 1rem; }
.sides { display: grid; grid-template-columns: 1fr 1fr; }
.sides > * { padding: 0.5rem 0.9rem; margin: 0; min-width: 0; }
.sides > * + * { border-left: 1px solid var(--line); }
h4 { margin: 0.7rem 0 0.3rem; font-size: 0.92rem; }
h4:first-child { margin-top: 0; }
h4 span { font-weight: normal; margin-left: 0.6rem; }
pre { margin: 0; white-space: pre-wrap; overflow-wrap: anywhere; max-height: 42rem; overflow: auto; }
.nothing { font-size: 0.92rem; }
</style>
