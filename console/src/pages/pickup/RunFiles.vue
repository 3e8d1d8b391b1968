<script setup lang="ts">
// The files that a run is of, where those are several, and what became of each.
import { computed, ref } from 'vue'
import type { Run } from '../../client'
import StateMark from '../../parts/StateMark.vue'
import { many, number } from '../../words'

const props = defineProps<{ run: Run; pickup: number }>()
const few = 12
const all = ref(false)
// The one that is looked at is shown in any case.
const shown = computed(() => (all.value || props.run.files.length <= few ? props.run.files : props.run.files.filter((f, i) => i < few - 1 || f.pickup === props.pickup)))
const parts: Record<string, string> = { table: 'codes are looked up in it', marker: 'a marker, not read', older: 'older, not read' }
</script>

<template>
  <section class="sheet files">
    <h3>{{ many(run.files.length, 'file') }} went on together<template v-if="run.key">, with {{ run.key }}</template></h3>
    <table class="list">
      <tbody>
        <tr v-for="f in shown" :key="f.pickup" :class="{ this: f.pickup === pickup }" :data-file="f.pickup">
          <td class="name mono"><b v-if="f.pickup === pickup">{{ f.name }}</b><RouterLink v-else :to="{ name: 'pickup', params: { id: f.pickup } }">{{ f.name }}</RouterLink></td>
          <td><StateMark :state="f.state" :rejected="f.rejected" :whole="f.rejected_whole" /></td>
          <td v-if="parts[f.part]" class="faint">{{ parts[f.part] }}</td>
          <td v-else class="faint">{{ number(f.records_in) }} in = {{ number(f.good) }} good + {{ number(f.rejected) }} rejected + {{ number(f.filtered) }} left out<template v-if="f.merged"> + {{ number(f.merged) }} merged</template><template v-if="f.warnings">, {{ many(f.warnings, 'warning') }}</template></td>
        </tr>
      </tbody>
    </table>
    <button v-if="shown.length < run.files.length" @click="all = true">show all {{ number(run.files.length) }}</button>
  </section>
</template>

<style scoped>
.files { padding: 0.6rem 1rem; margin-bottom: 1rem; }
h3 { margin: 0 0 0.4rem; font-size: 0.95rem; }
table { border: 0; }
td { padding-right: 1.2rem; }
</style>
