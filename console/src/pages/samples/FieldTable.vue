<script setup lang="ts">
// The fields that were met in a sample, and what their values look like.
import { computed } from 'vue'
import type { Field } from '../../client/samples'
import { number } from '../../words'

const props = defineProps<{ fields: Field[] }>()
const emit = defineEmits<{ choose: [path: string] }>()
const meanings = computed(() => props.fields.some((f) => f.meaning))
</script>

<template>
  <table class="list">
    <thead><tr><th>Field</th><th v-if="meanings">Meaning</th><th class="num">Filled</th><th class="num">Empty</th><th>Looks like</th><th class="num">Longest</th><th>For example</th></tr></thead>
    <tbody>
      <tr v-for="f in fields" :key="f.path" tabindex="0" :title="`Show the next record with ${f.path}`" @click="emit('choose', f.path)" @keydown.enter="emit('choose', f.path)">
        <td class="mono nowrap">{{ f.path }}</td>
        <td v-if="meanings">{{ f.meaning }}</td>
        <td class="num">{{ number(f.filled) }}</td>
        <td class="num">{{ number(f.empty) }}</td>
        <td>{{ f.looks_like }}</td>
        <td class="num">{{ number(f.longest) }}</td>
        <td class="mono example">{{ f.example }}</td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
table { font-size: 0.9rem; }
.nowrap { white-space: nowrap; }
.example { max-width: 16rem; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
</style>
