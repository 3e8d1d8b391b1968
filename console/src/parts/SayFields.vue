<script setup lang="ts">
// Who does something, and why; the name is remembered.
import InputText from 'primevue/inputtext'
import { onMounted, ref } from 'vue'
import { saidHere, type Said } from '../client'

const props = defineProps<{ first?: boolean }>() // whoever opens a dialog with it types at once
const because = ref('')
const by = ref(localStorage.getItem('by') ?? '')
const field = ref<HTMLElement>()

// said gives what was said, and remembers the name.
function said(): Said {
  localStorage.setItem('by', by.value)
  return { ...saidHere(), because: because.value }
}
const element = () => field.value?.querySelector('input')
defineExpose({ said, element })
onMounted(() => {
  because.value = ''
  if (props.first) element()?.focus() // with what is shown, not a frame later
})
</script>

<template>
  <div class="say">
    <label ref="field">Why <InputText v-model="because" :autofocus="first" size="small" maxlength="2000" placeholder="kept with it; may be left out" /></label>
    <label>Who <InputText v-model="by" size="small" maxlength="200" placeholder="your name" /></label>
  </div>
</template>

<style scoped>
.say label { display: grid; grid-template-columns: 3rem 1fr; align-items: baseline; margin-bottom: 0.5rem; color: var(--faint); }
</style>
