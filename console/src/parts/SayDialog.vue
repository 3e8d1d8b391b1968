<script setup lang="ts">
// Asks before something is done that others will wonder about: who does it, and why.
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'
import InputText from 'primevue/inputtext'
import { ref, useId, watch } from 'vue'
import type { Said } from '../client'
import { focusWhenOpen } from './focus'

const visible = defineModel<boolean>()
defineProps<{ title: string; text: string; button: string }>()
const emit = defineEmits<{ said: [said: Said] }>()
const by = ref(localStorage.getItem('by') ?? '')
const because = ref('')
const field = ref<HTMLElement>()
const id = useId()
watch(visible, () => (because.value = ''))
focusWhenOpen(visible, () => field.value?.querySelector('input'))

function go() {
  localStorage.setItem('by', by.value)
  visible.value = false
  emit('said', { by: by.value || 'the console', because: because.value })
}
</script>

<template>
  <!-- Without motion: what takes the focus late takes it away from who types already. -->
  <Dialog v-model:visible="visible" :pt="{ transition: { css: false } }" modal :header="title" dismissable-mask :style="{ width: '36rem' }">
    <form :id="id" class="say" @submit.prevent="go">
      <p>{{ text }}</p>
      <label ref="field">Why <InputText v-model="because" autofocus size="small" maxlength="2000" placeholder="kept with it; may be left out" /></label>
      <label>Who <InputText v-model="by" size="small" maxlength="200" placeholder="your name" /></label>
    </form>
    <template #footer>
      <Button label="Leave it" severity="secondary" text @click="visible = false" />
      <Button type="submit" :form="id" :label="button" />
    </template>
  </Dialog>
</template>

<style scoped>
p { margin: 0 0 0.7rem; }
.say label { display: grid; grid-template-columns: 3rem 1fr; align-items: baseline; margin-bottom: 0.5rem; color: var(--faint); }
</style>
