<script setup lang="ts">
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'
import type { PickupDetail } from '../../client'
import { many } from '../../words'

const visible = defineModel<boolean>()
defineProps<{ pickup: PickupDetail }>()
defineEmits<{ go: [revision: 'now' | 'then'] }>()
</script>

<template>
  <Dialog v-model:visible="visible" modal header="Run this file again?" dismissable-mask :style="{ width: '40rem' }">
    <p>
      {{ pickup.name }} ({{ many(pickup.records_in, 'record') }}) is read again from the archive and its results are delivered anew. What earlier runs delivered stays as it is; a name that is taken gets a number.
    </p>
    <template #footer>
      <Button label="Leave it" severity="secondary" text @click="visible = false" />
      <Button label="Revision of its latest run" severity="secondary" outlined @click="$emit('go', 'then')" />
      <Button label="Published revision" autofocus @click="$emit('go', 'now')" />
    </template>
  </Dialog>
</template>
