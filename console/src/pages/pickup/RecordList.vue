<script setup lang="ts">
import Button from 'primevue/button'
import ToggleSwitch from 'primevue/toggleswitch'
import { computed, ref, watch } from 'vue'
import { records, type Run } from '../../client'
import { useLoad } from '../../client/load'
import StandIn from '../../parts/StandIn.vue'
import { many, number } from '../../words'
import RecordPair from './RecordPair.vue'

// start is the record that is shown first.
const props = defineProps<{ run: Run; start?: number }>()
const page = 10
const rejected = ref(!props.start && props.run.rejected > 0 && !props.run.rejected_whole)
const warned = ref(false)
const trail = ref<number[]>(props.start && props.start > 1 ? [1, props.start] : [1])
const from = computed(() => trail.value[trail.value.length - 1])
const { data, problem, loading, load } = useLoad(() => records(props.run.id, { from: from.value, limit: page, rejected: rejected.value, warned: warned.value }))
void load()
const rows = ref<Record<number, number>>({})
watch([rejected, warned], () => (trail.value = [1]))
watch([from, rejected, warned], () => {
  rows.value = {}
  void load()
})

// More rows of the long lists of one record: ten times as many each time, as far as the service goes.
const mostRows = 1000
const unfold = (record: number) => replace(record, Math.min(10 * (rows.value[record] ?? 10), mostRows), !!shown(record)?.explained)
const explain = (record: number) => replace(record, rows.value[record], true)
const shown = (record: number) => data.value?.records.find((r) => r.record === record)
async function replace(record: number, wanted: number | undefined, explain: boolean) {
  try {
    const { records: more } = await records(props.run.id, { from: record, limit: 1, rejected: false, rows: wanted, explain })
    if (!data.value || more[0]?.record !== record) return
    if (explain) more[0].explained ??= []
    data.value = { ...data.value, records: data.value.records.map((r) => (r.record === record ? more[0] : r)) }
    if (wanted) rows.value[record] = wanted
  } catch (e) {
    problem.value = (e as Error).message
  }
}
const next = computed(() => (data.value?.more ? data.value.records[data.value.records.length - 1].record + 1 : 0))
</script>

<template>
  <div class="bar">
    <h2>{{ run.committed_at ? 'Records in and out' : 'What would come of it' }}</h2>
    <label v-if="run.committed_at"><ToggleSwitch v-model="rejected" :disabled="run.rejected === 0" /> only the {{ many(run.rejected, 'rejected record') }}</label>
    <label v-if="run.committed_at && run.warnings"><ToggleSwitch v-model="warned" /> {{ rejected ? 'and' : 'only' }} those with a warning</label>
    <span class="space" />
    <template v-if="data?.records.length">
      <span class="faint num">{{ number(data.records[0].record) }} to {{ number(data.records[data.records.length - 1].record) }}<template v-if="run.committed_at"> of {{ number(run.records_in - run.merged) }}</template></span>
      <Button label="Back" size="small" severity="secondary" outlined :disabled="trail.length < 2" @click="trail = trail.slice(0, -1)" />
      <Button label="On" size="small" severity="secondary" outlined :disabled="!next" @click="trail = [...trail, next]" />
    </template>
  </div>
  <StandIn v-if="problem || !data" :problem="problem" :loading="loading" :stale="!!data" @retry="load" />
  <template v-if="data">
    <RecordPair v-for="r in data.records" :key="r.record" :record="r" :unfolds="(rows[r.record] ?? 0) < mostRows" explains @unfold="unfold" @explain="explain" />
    <StandIn v-if="!data.records.length">
      <p v-if="data.unreadable">Nothing of the file could be read as records; the whole file was rejected.</p>
      <p v-else-if="warned && !rejected && from === 1">No record has a warning: what there is to say is about the file as a whole.</p>
      <p v-else>There are no records here.</p>
    </StandIn>
  </template>
</template>

<style scoped>
.bar { display: flex; align-items: center; gap: 0.9rem; margin-bottom: 0.6rem; flex-wrap: wrap; }
.bar h2 { margin: 0; }
label { display: flex; align-items: center; gap: 0.5rem; font-size: 0.92rem; }
.space { flex: 1; }
</style>
