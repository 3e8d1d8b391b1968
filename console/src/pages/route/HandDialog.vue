<script setup lang="ts">
// Gives a file to a route, for good or as a trial.
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'
import { ref, watch } from 'vue'
import { hand, type Trial } from '../../client'
import BalanceLine from '../../parts/BalanceLine.vue'
import SayFields from '../../parts/SayFields.vue'
import FindingLine from '../pickup/FindingLine.vue'
import RecordPair from '../pickup/RecordPair.vue'

const visible = defineModel<boolean>()
const props = defineProps<{ route: string }>()
const emit = defineEmits<{ handed: [pickup: number] }>()
const file = ref<File>()
const trial = ref<Trial>()
const problem = ref('')
const busy = ref(false)
const fields = ref<InstanceType<typeof SayFields>>()
watch(visible, () => {
  file.value = trial.value = undefined
  problem.value = ''
})

function choose(e: Event) {
  file.value = (e.target as HTMLInputElement).files?.[0]
  trial.value = undefined
}
async function go(dry: boolean) {
  if (!file.value) return
  busy.value = true
  problem.value = ''
  try {
    if (dry) {
      const tried = await hand<Trial>(props.route, file.value, true)
      for (const r of tried.records) r.explained ??= []
      trial.value = tried
    }
    else emit('handed', (await hand<{ pickup: number }>(props.route, file.value, false, fields.value?.said())).pickup)
  } catch (e) {
    problem.value = (e as Error).message
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <Dialog v-model:visible="visible" :pt="{ transition: { css: false } }" modal :header="`Hand a file to ${route}`" dismissable-mask :style="{ width: trial ? '70rem' : '40rem' }">
    <p class="faint">It is treated as if it had come into the folder. A trial delivers and records nothing.</p>
    <p><input type="file" aria-label="File" @change="choose" /></p>
    <SayFields ref="fields" />
    <p v-if="problem" class="problem">{{ problem }}</p>
    <template v-if="trial">
      <BalanceLine :records="trial.balance.in" :good="trial.balance.good" :rejected="trial.balance.rejected" :filtered="trial.balance.filtered" :merged="trial.balance.merged" :warnings="trial.balance.warnings" />
      <FindingLine v-for="(f, i) in trial.findings" :key="i" :finding="f" />
      <RecordPair v-for="r in trial.records" :key="r.record" :record="r" explains />
      <p v-if="trial.more" class="faint">The first {{ trial.records.length }} of {{ trial.balance.in }} records are shown; <code>ydrion try</code> shows the others.</p>
    </template>
    <template #footer>
      <Button label="Leave it" severity="secondary" text @click="visible = false" />
      <Button label="Try it" severity="secondary" outlined :disabled="!file" :loading="busy" @click="go(true)" />
      <Button label="Hand it over" :disabled="!file" :loading="busy" @click="go(false)" />
    </template>
  </Dialog>
</template>

<style scoped>
p { margin: 0 0 0.7rem; }
.problem { color: var(--bad); }
</style>
