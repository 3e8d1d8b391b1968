<script setup lang="ts">
// Rows of a long list that are left out, in a list of a record's values.
import type { Line } from '../../client'
import { many } from '../../words'

defineProps<{ line: Line; unfolds?: boolean; mono?: boolean }>()
const emit = defineEmits<{ unfold: [] }>()
</script>

<template>
  <dt :class="{ mono }">{{ line.path }}</dt>
  <dd class="folded">… {{ many(line.folded ?? 0, 'value') }} <button v-if="unfolds" @click="emit('unfold')">show more rows</button></dd>
</template>

<style scoped>
dt { padding-right: 0.8rem; color: var(--faint); overflow: hidden; text-overflow: ellipsis; white-space: nowrap; border-top: 1px dotted var(--line); }
.folded { margin: 0; color: var(--faint); border-top: 1px dotted var(--line); }
button { border: 0; background: none; color: var(--act); font: inherit; cursor: pointer; }
</style>
