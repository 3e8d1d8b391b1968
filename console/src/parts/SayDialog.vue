<script setup lang="ts">
// Asks before something is done that others will wonder about: who does it, and why.
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'
import { ref, useId } from 'vue'
import type { Said } from '../client'
import { focusWhenOpen } from './focus'
import SayFields from './SayFields.vue'

const visible = defineModel<boolean>()
defineProps<{ title: string; text: string; button: string }>()
const emit = defineEmits<{ said: [said: Said] }>()
const fields = ref<InstanceType<typeof SayFields>>()
const id = useId()
focusWhenOpen(visible, () => fields.value?.element())

function go() {
  const said = fields.value?.said() ?? {}
  visible.value = false
  emit('said', said)
}
</script>

<template>
  <!-- Without motion: what takes the focus late takes it away from who types already. -->
  <Dialog v-model:visible="visible" :pt="{ transition: { css: false } }" modal :header="title" dismissable-mask :style="{ width: '36rem' }">
    <form :id="id" @submit.prevent="go">
      <p>{{ text }}</p>
      <SayFields ref="fields" first />
    </form>
    <template #footer>
      <Button label="Leave it" severity="secondary" text @click="visible = false" />
      <Button type="submit" :form="id" :label="button" />
    </template>
  </Dialog>
</template>

<style scoped>
p { margin: 0 0 0.7rem; }
</style>
