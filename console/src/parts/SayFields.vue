<script setup lang="ts">
// Who does something, and why; the name is remembered.
import InputText from 'primevue/inputtext'
import { onMounted, ref } from 'vue'
import { saidHere, type Said } from '../client'

const because = ref('')
const by = ref(localStorage.getItem('by') ?? '')
const field = ref<HTMLElement>()

// said gives what was said, and remembers the name.
function said(): Said {
  localStorage.setItem('by', by.value)
  return { ...saidHere(), because: because.value }
}
defineExpose({ said, element: () => field.value?.querySelector('input') })
onMounted(() => (because.value = ''))
</script>

<template>
  <div class="say">
    <label ref="field">Why <InputText v-model="because" size="small" maxlength="2000" placeholder="kept with it; may be left out" /></label>
    <label>Who <InputText v-model="by" size="small" maxlength="200" placeholder="your name" /></label>
  </div>
</template>

<style scoped>
.say label { display: grid; grid-template-columns: 3rem 1fr; align-items: baseline; margin-bottom: 0.5rem; color: var(--faint); }
</style>
