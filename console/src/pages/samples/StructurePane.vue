<script setup lang="ts">
// The parts of a record: groups, segments, fields, members; and what the standard says
// of the one that is chosen.
import { computed, nextTick, ref, watch } from 'vue'
import type { Part, Shown, Table } from '../../client/samples'
import { number } from '../../words'

const props = defineProps<{ record: Shown; tables: Record<string, Table>; at: number }>()
const emit = defineEmits<{ point: [index: number]; choose: [index: number] }>()

const list = ref<HTMLElement>()
const all = ref(false)
const many = 1500
const parts = computed(() => (all.value ? props.record.parts : props.record.parts.slice(0, many)))
const part = computed<Part | undefined>(() => props.record.parts[props.at])
const table = computed(() => (part.value?.table ? props.tables[part.value.table] : undefined))
const named = (p: Part) => (p.kind === 'group' ? p.name : p.path)
watch(() => props.record, () => (all.value = false))
watch(() => props.at, async (n) => {
  await nextTick()
  list.value?.querySelector(`[data-part="${n}"]`)?.scrollIntoView({ block: 'nearest' })
})
// moved tells a movement of the pointer from one of what is under it.
let before = ''
function moved(e: MouseEvent) {
  const here = `${e.screenX},${e.screenY}`
  const is = before !== '' && here !== before
  before = here
  return is
}
function key(e: KeyboardEvent) {
  const step = { ArrowDown: 1, ArrowUp: -1 }[e.key]
  if (!step) return
  e.preventDefault()
  emit('choose', Math.max(0, Math.min(parts.value.length - 1, props.at + step)))
}
</script>

<template>
  <div class="structure">
    <div ref="list" class="parts" tabindex="0" role="tree" aria-label="Structure" @keydown="key">
      <div v-for="(p, i) in parts" :key="i" class="part" :class="[p.kind, { at: i === at }]" role="treeitem" :aria-selected="i === at" :data-part="i" :style="{ paddingLeft: `${0.5 + p.depth * 0.9}rem` }" @mousemove="moved($event) && i !== at && emit('point', i)" @click="emit('choose', i)">
        <span class="path mono">{{ named(p) }}</span>
        <span v-if="p.kind === 'value'" class="value mono">{{ p.value }}<span v-if="p.means" class="means">{{ p.means }}</span></span>
        <span v-if="p.kind !== 'group' && p.name" class="name">{{ p.name }}</span>
      </div>
      <button v-if="!all && record.parts.length > many" class="more" @click="all = true">Show all {{ number(record.parts.length) }} parts</button>
    </div>
    <div class="about" aria-live="polite">
      <template v-if="part">
        <div><b>{{ part.name || named(part) || 'the whole value' }}</b> <span class="mono faint">{{ part.kind === 'group' ? '' : part.path }}</span></div>
        <div class="faint">
          <span v-if="part.type">type {{ part.type }}, </span><span v-if="part.number">data element {{ part.number }}, </span>byte {{ number(record.offset + part.from) }}, {{ number(part.to - part.from) }} {{ part.to - part.from === 1 ? 'byte' : 'bytes' }}<span v-if="part.means">, means <b>{{ part.means }}</b></span>
        </div>
        <div v-if="table" class="codes">
          <div class="faint">codes of table {{ table.name }}, {{ table.title }}</div>
          <div v-for="c in table.codes" :key="c.code" class="code" :class="{ here: c.code === part.value }"><span class="mono">{{ c.code }}</span> {{ c.meaning }}</div>
        </div>
      </template>
      <div v-else class="faint">Point at the text or at a part to see what it is.</div>
    </div>
  </div>
</template>

<style scoped>
.structure { display: flex; flex-direction: column; height: 100%; min-height: 0; }
.parts { flex: 1; overflow: auto; outline-offset: -2px; padding: 0.2rem 0; }
.part { display: flex; gap: 0.7rem; align-items: baseline; padding-right: 0.6rem; line-height: 1.5; cursor: pointer; }
.part.at { background: var(--band); box-shadow: inset 3px 0 0 var(--act); }
.path { flex: none; color: var(--faint); }
.group .path { color: var(--act); font-weight: 600; }
.segment .path { color: var(--ink); font-weight: 700; }
.part.value .path { min-width: 5.5rem; }
span.value { overflow-wrap: anywhere; white-space: pre-wrap; }
.means { margin-left: 0.6rem; color: var(--good); font-family: system-ui, sans-serif; }
.name { color: var(--faint); font-size: 0.85rem; margin-left: auto; text-align: right; }
.more { margin: 0.5rem; }
.about { flex: none; height: 9.5rem; overflow: auto; border-top: 1px solid var(--line-strong); padding: 0.45rem 0.7rem; font-size: 0.88rem; }
.codes { margin-top: 0.3rem; columns: 2; column-gap: 1rem; }
.codes > .faint { column-span: all; }
.code { break-inside: avoid; }
.code.here { background: var(--mark); font-weight: 600; }
</style>
