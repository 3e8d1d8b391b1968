<script setup lang="ts">
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'
import RadioButton from 'primevue/radiobutton'
import { computed, ref, watch } from 'vue'
import { runAgain, type AgainAnswer, type AgainRequest } from '../../client'
import { focusWhenOpen } from '../../parts/focus'
import SayFields from '../../parts/SayFields.vue'
import { many } from '../../words'

// The pickups to run again, as a request without the way of doing it.
const visible = defineModel<boolean>()
const props = defineProps<{ which: AgainRequest }>()
const emit = defineEmits<{ done: [] }>()

const way = ref<'now' | 'then' | 'same'>('now')
const answers = ref<AgainAnswer[]>()
const problem = ref('')
const busy = ref(false)
const fields = ref<InstanceType<typeof SayFields>>()
const ways = [
  { value: 'now', label: 'Anew', text: 'with the published revision, the present time and new sequence numbers' },
  { value: 'then', label: 'Anew, with the revision of then', text: 'the present time and new sequence numbers' },
  { value: 'same', label: 'The same once more', text: 'with the revision, the time and the sequence numbers of the latest run, for a receiver that has lost it' },
] as const
const good = computed(() => answers.value?.filter((a) => !a.problem) ?? [])
const overtaking = computed(() => answers.value?.filter((a) => a.younger > 0) ?? [])
const others = computed(() => answers.value?.filter((a) => a.problem && !a.younger) ?? [])
const overtake = ref(false)

async function ask(dry: boolean) {
  busy.value = true
  problem.value = ''
  try {
    // What is confirmed is what was listed and named, whatever has come since.
    const which = dry ? props.which : { pickups: good.value.map((a) => a.pickup) }
    const request = { ...which, revision: way.value === 'now' ? 'now' : 'then', same: way.value === 'same', overtake: overtake.value, dry } as AgainRequest
    answers.value = (await runAgain(request, fields.value?.said())).items
  } catch (e) {
    problem.value = (e as Error).message
    return
  } finally {
    busy.value = false
  }
  if (!dry) {
    visible.value = false
    emit('done')
  }
}
watch(visible, (v) => {
  answers.value = undefined
  overtake.value = false
  if (v) void ask(true)
})
const leave = ref<{ $el: HTMLElement }>()
focusWhenOpen(visible, () => leave.value?.$el)
watch(overtake, () => visible.value && void ask(true))
</script>

<template>
  <Dialog v-model:visible="visible" :pt="{ transition: { css: false } }" modal header="Run again from the archive?" dismissable-mask :style="{ width: '42rem' }">
    <p v-if="problem" class="problem">{{ problem }}</p>
    <template v-else-if="answers">
      <p v-if="good.length === 1">{{ good[0].name }} ({{ many(good[0].records, 'record') }}) is read again and its results are delivered anew. What earlier runs delivered stays as it is.</p>
      <p v-else-if="good.length">{{ many(good.length, 'pickup') }}, from {{ good[0].name }} to {{ good[good.length - 1].name }}, are read again, oldest first. What earlier runs delivered stays as it is.</p>
      <p v-else>None of them can be run again.</p>
      <p v-if="overtaking.length" class="warn">
        <label><input v-model="overtake" type="checkbox" /> also {{ many(overtaking.length, 'pickup') }} that would overtake younger ones of their lane, such as {{ overtaking[0].name }}</label>
      </p>
      <p v-for="a in others.slice(0, 4)" :key="a.pickup" class="faint">{{ a.name }} is left out: {{ a.problem }}.</p>
      <p v-if="others.length > 4" class="faint">And {{ others.length - 4 }} more.</p>
      <div v-for="w in ways" :key="w.value" class="way">
        <RadioButton v-model="way" :input-id="w.value" :value="w.value" />
        <label :for="w.value"><b>{{ w.label }}</b>: {{ w.text }}</label>
      </div>
      <SayFields v-if="good.length" ref="fields" class="say" />
    </template>
    <template #footer>
      <Button ref="leave" label="Leave it" severity="secondary" text autofocus @click="visible = false" />
      <Button :label="good.length > 1 ? `Run ${good.length} again` : 'Run again'" :disabled="!good.length" :loading="busy" @click="ask(false)" />
    </template>
  </Dialog>
</template>

<style scoped>
p { margin: 0 0 0.7rem; }
.way { display: flex; gap: 0.6rem; padding: 0.25rem 0; align-items: baseline; }
.say { margin-top: 0.8rem; }
.problem { color: var(--bad); }
.warn { border-left: 3px solid var(--warn); padding-left: 0.7rem; }
</style>
