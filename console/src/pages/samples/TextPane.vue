<script setup lang="ts">
// The text of a sample, of any length: only the rows that are seen are fetched.
import { computed, onMounted, onUnmounted, reactive, ref, watch } from 'vue'
import { rows as fetchRows, type Row } from '../../client/samples'
import { number } from '../../words'
import { byteAt, charAt } from './bytes'

const props = defineProps<{ sample: string; rows: number; record?: { from: number; to: number }; mark?: { from: number; to: number }; faults: Map<number, string> }>()
const emit = defineEmits<{ point: [byte: number]; choose: [byte: number] }>()

const high = 20 // pixels of a row
const page = 200 // rows that are fetched at once
const tallest = 12_000_000 // what browsers can scroll
const pane = ref<HTMLElement>()
const tall = ref(400)
const top = ref(0) // the first row, with its fraction
const seen = computed(() => tall.value / high)
const last = computed(() => Math.max(0, props.rows - seen.value + 1))
const total = computed(() => Math.min((props.rows + 1) * high, tallest))
const squeezed = computed(() => (props.rows + 1) * high > tallest)
const pages = reactive(new Map<number, Row[]>())
const asked = new Set<number>()
let wait = 0

const shown = computed(() => {
  const out: { n: number; row?: Row }[] = []
  const first = Math.floor(top.value)
  for (let n = first; n < Math.min(props.rows, first + seen.value + 2); n++) out.push({ n, row: pages.get(Math.floor(n / page))?.[n % page] })
  return out
})

async function ask(n: number) {
  if (n < 0 || n * page >= props.rows || pages.has(n) || asked.has(n)) return
  asked.add(n)
  const id = props.sample
  try {
    const got = await fetchRows(id, n * page, page)
    if (id !== props.sample) return
    pages.set(n, got.items)
    if (pages.size > 60) pages.delete([...pages.keys()].sort((a, b) => Math.abs(b - n) - Math.abs(a - n))[0])
  } catch {
    // asked again when it is scrolled to
  } finally {
    asked.delete(n)
  }
}
function need() {
  clearTimeout(wait)
  const n = Math.floor(top.value / page)
  const after = Math.floor((top.value + seen.value + 1) / page)
  wait = window.setTimeout(() => {
    void ask(n)
    if (after !== n) void ask(after)
    void ask(after + 1)
  }, pages.has(n) && pages.has(after) ? 120 : 15)
}
watch(() => props.sample, () => { pages.clear(); asked.clear(); top.value = 0; if (pane.value) pane.value.scrollTop = 0; need() })
watch([top, tall], need)

// In a squeezed pane a pixel is many rows: wheel and keys move by rows all the same.
let own = false
function scrolled() {
  if (own) {
    own = false
    return
  }
  const p = pane.value!
  top.value = squeezed.value ? (p.scrollTop / (total.value - p.clientHeight)) * last.value : p.scrollTop / high
}
function go(row: number) {
  top.value = Math.max(0, Math.min(last.value, row))
  own = squeezed.value
  const to = squeezed.value ? (top.value / last.value) * (total.value - pane.value!.clientHeight) : top.value * high
  if (Math.abs(pane.value!.scrollTop - to) < 1) own = false
  pane.value!.scrollTop = to
}
function wheel(e: WheelEvent) {
  if (!squeezed.value || e.shiftKey || !e.deltaY) return
  e.preventDefault()
  go(top.value + e.deltaY / high)
}
function key(e: KeyboardEvent) {
  const leap = Math.floor(seen.value) - 1
  const to = { ArrowDown: top.value + 1, ArrowUp: top.value - 1, PageDown: top.value + leap, PageUp: top.value - leap, Home: 0, End: last.value }[e.key]
  if (to === undefined || e.ctrlKey || e.altKey) return
  e.preventDefault()
  go(Math.round(to))
}
// show brings a row into sight.
function show(row: number) {
  if (row < top.value + 1 || row > top.value + seen.value - 2) go(row - Math.floor(seen.value / 3))
}
defineExpose({ show })

let watched: ResizeObserver | undefined
onMounted(() => {
  watched = new ResizeObserver(() => (tall.value = pane.value?.clientHeight ?? 400))
  watched.observe(pane.value!)
  need()
})
onUnmounted(() => watched?.disconnect())

// pieces of a row: what is marked stands apart.
function pieces(row: Row): { text: string; marked: boolean; from: number }[] {
  const m = props.mark
  if (!m || m.to <= row.offset || m.from >= row.offset + row.bytes) return [{ text: row.text, marked: false, from: 0 }]
  const from = m.from <= row.offset ? 0 : charAt(row, m.from)
  const to = m.to >= row.offset + row.bytes ? row.text.length : charAt(row, m.to)
  return [
    { text: row.text.slice(0, from), marked: false, from: 0 },
    { text: row.text.slice(from, to), marked: true, from },
    { text: row.text.slice(to), marked: false, from: to },
  ].filter((p) => p.text)
}
const inRecord = (row?: Row) => !!row && !!props.record && row.offset >= props.record.from && row.offset < props.record.to

// byteUnder is the byte at which the pointer is.
function byteUnder(e: MouseEvent): number | undefined {
  const line = (e.target as HTMLElement).closest<HTMLElement>('[data-row]')
  const row = line && shown.value.find((s) => s.n === Number(line.dataset.row))?.row
  if (!row) return undefined
  let node: Node | null = null
  let at = 0
  const d = document as Document & { caretPositionFromPoint?: (x: number, y: number) => { offsetNode: Node; offset: number } | null }
  if (d.caretPositionFromPoint) {
    const caret = d.caretPositionFromPoint(e.clientX, e.clientY)
    if (caret) [node, at] = [caret.offsetNode, caret.offset]
  } else {
    const range = document.caretRangeFromPoint(e.clientX, e.clientY)
    if (range) [node, at] = [range.startContainer, range.startOffset]
  }
  const piece = node?.parentElement?.closest<HTMLElement>('[data-from]')
  if (!piece) return row.offset
  return byteAt(row, Math.min(row.text.length - 1, Number(piece.dataset.from) + at))
}
let pointing = 0
let before = ''
function move(e: MouseEvent) {
  const here = `${e.screenX},${e.screenY}`
  const rest = before === '' || here === before // what is under the pointer has moved, not the pointer
  before = here
  if (rest) return
  cancelAnimationFrame(pointing)
  pointing = requestAnimationFrame(() => {
    const byte = byteUnder(e)
    if (byte !== undefined) emit('point', byte)
  })
}
function click(e: MouseEvent) {
  const byte = byteUnder(e)
  if (byte !== undefined) emit('choose', byte)
}
</script>

<template>
  <div ref="pane" class="text mono" tabindex="0" role="document" aria-label="Text" @scroll="scrolled" @wheel="wheel" @keydown="key" @mousemove="move" @click="click">
    <div class="whole" :style="{ height: `${total}px` }">
      <div class="window" :style="{ transform: `translateY(${(pane?.scrollTop ?? 0) - (top % 1) * high}px)` }">
        <div v-for="s in shown" :key="s.n" class="row" :class="{ record: inRecord(s.row), fault: faults.has(s.n) }" :data-row="s.n" :title="faults.get(s.n)">
          <span class="n">{{ number(s.n + 1) }}</span>
          <span class="line"><template v-if="s.row"><span v-for="p in pieces(s.row)" :key="p.from" :data-from="p.from" :class="{ marked: p.marked }">{{ p.text }}</span><span v-if="s.row.goes_on" class="faint">⏎…</span></template></span>
        </div>
      </div>
    </div>
  </div>
</template>

<style scoped>
.text { overflow: auto; position: relative; height: 100%; font-size: 0.82rem; outline-offset: -2px; cursor: text; }
.whole { position: relative; min-width: 100%; width: max-content; }
.window { position: absolute; top: 0; left: 0; min-width: 100%; will-change: transform; }
.row { height: 20px; line-height: 20px; white-space: pre; display: flex; min-width: 100%; width: max-content; }
.n { position: sticky; left: 0; min-width: 4.2rem; padding: 0 0.6rem 0 0.4rem; text-align: right; color: var(--faint); background: var(--sheet); border-right: 3px solid transparent; user-select: none; flex: none; }
.row.record .n { border-right-color: var(--act); }
.row.fault .n { color: var(--bad); font-weight: 700; }
.row.record .line { background: var(--band); }
.line { padding: 0 0.6rem 0 0.5rem; flex: 1; }
.marked { background: var(--act); color: var(--sheet); border-radius: 2px; }
</style>
