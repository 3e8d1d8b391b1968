<script setup lang="ts">
// Looks at a file that somebody drops here: its text and its structure side by side, its
// fields, and what is wrong with it.
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import { computed, nextTick, onBeforeUnmount, onMounted, ref } from 'vue'
import type { Finding } from '../../client'
import { describe, find, forget, records, rowOf, send, type DescriptionView, type SampleView, type Shown, type Table } from '../../client/samples'
import { typing, useKeys } from '../../keys'
import { many, number, size } from '../../words'
import FindingLine from '../pickup/FindingLine.vue'
import FieldTable from './FieldTable.vue'
import StructurePane from './StructurePane.vue'
import TextPane from './TextPane.vue'

const file = ref<File>()
const member = ref('') // of an archive
const guide = ref<DescriptionView>() // that messages are checked against
const view = ref<SampleView>()
const record = ref<Shown>()
const tables = ref<Record<string, Table>>({})
const at = ref(-1) // the part that is pointed at
const problem = ref('')
const sent = ref<number>() // how much of a file has gone, while it goes
const over = ref(false)
const tab = ref<'text' | 'fields' | 'faults'>('text')
const place = ref('')
const wanted = ref('')
const path = ref('') // the position that is looked for
const said = ref('') // what came of a search
const hit = ref<{ from: number; to: number }>()
const text = ref<InstanceType<typeof TextPane>>()

const seen = computed(() => view.value?.look ?? undefined)
const headline = computed(() => {
  const s = seen.value
  if (!s) return ''
  const of = [s.type, s.version].filter(Boolean).join(' ')
  return s.format ? [s.title, of].filter(Boolean).join(', ') : of || 'no format that is known'
})
const faults = computed(() => new Map((seen.value?.findings ?? []).filter((f) => f.place.line).map((f) => [(f.place.line ?? 1) - 1, f.message])))
const extent = computed(() => record.value && { from: record.value.offset, to: record.value.offset + bytes(record.value) })
const mark = computed(() => {
  const part = record.value?.parts[at.value]
  if (part) return { from: record.value!.offset + part.from, to: record.value!.offset + part.to }
  return hit.value
})
const bytes = (r: Shown) => r.parts.reduce((most, p) => Math.max(most, p.to), r.raw.length)

async function open(f: File | undefined, of = '') {
  if (!f || sent.value !== undefined) return
  drop()
  file.value = f
  member.value = of
  sent.value = 0
  problem.value = ''
  try {
    view.value = await send(f, of, guide.value?.id ?? '', (part) => (sent.value = part))
    if (!seen.value?.guided) guide.value = undefined
    record.value = view.value.look?.shown[0]
    tables.value = view.value.look?.tables ?? {}
    tab.value = 'text'
    if (record.value) await text.value?.show(await rowAt(record.value.offset))
  } catch (e) {
    problem.value = (e as Error).message
  } finally {
    sent.value = undefined
  }
}
function drop() {
  if (view.value?.id) forget(view.value.id)
  view.value = undefined
  record.value = undefined
  at.value = -1
  hit.value = undefined
  path.value = place.value = wanted.value = said.value = ''
}
// hold looks at the file again, checked against a guideline or, without one, its standard.
async function hold(f?: File) {
  problem.value = ''
  try {
    const got = f ? await describe(f) : undefined
    if (got && !got.id) {
      problem.value = `${got.name} cannot be read: ${got.findings.map((x) => (x.place.line ? `line ${x.place.line}: ` : '') + x.message).slice(0, 3).join('; ')}.`
      return
    }
    guide.value = got
    await open(file.value, member.value)
    tab.value = 'faults'
  } catch (e) {
    problem.value = (e as Error).message
  }
}
function dropped(e: DragEvent) {
  over.value = false
  void open(e.dataTransfer?.files[0])
}
const leave = () => drop()
onMounted(() => addEventListener('pagehide', leave))
onBeforeUnmount(() => { removeEventListener('pagehide', leave); drop() })

const rowAt = async (byte: number) => (await rowOf(view.value!.id, byte)).row

// fetch shows a record; part is a path in it, or a byte, that is marked then.
async function fetch(query: { at: string; from?: number }, part: string | number = '', scroll = true) {
  if (!view.value) return
  problem.value = ''
  try {
    const got = await records(view.value.id, query)
    const first = got.items[0]
    if (!first) {
      said.value = `There is no record at ${query.at}${query.from ? ' behind this one' : ''}.`
      return
    }
    said.value = ''
    record.value = first
    tables.value = got.tables
    at.value = typeof part === 'number' ? partAt(part) : part ? first.parts.findIndex((p) => p.path === part || p.path.startsWith(part)) : -1
    hit.value = undefined
    await nextTick()
    const from = first.offset + (first.parts[at.value]?.from ?? 0)
    if (scroll) text.value?.show(await rowAt(from))
  } catch (e) {
    problem.value = (e as Error).message
  }
}
const isPath = (s: string) => !/^(record\s+)?[\d,.]+$/.test(s) && !/^byte\s/.test(s)

// jump goes to a place: a record, a byte, or the next record that has a position, of which
// all is shown then.
async function jump(to: string, from = 1) {
  to = to.trim()
  if (!to) return
  tab.value = 'text'
  await nextTick()
  if (!isPath(to)) {
    const byte = /^byte\s+([\d,]+)$/.exec(to)
    path.value = ''
    await fetch({ at: to }, byte ? Number(byte[1].replace(/,/g, '')) : '')
    return
  }
  path.value = to
  const found = await records(view.value!.id, { at: to, from }).catch((e) => { problem.value = (e as Error).message; return undefined })
  if (!found) return
  if (!found.items[0]) {
    said.value = `There is no ${to}${from > 1 ? ' in any further record' : ''}.`
    return
  }
  await fetch({ at: String(found.items[0].record) }, found.items[0].parts[0].path)
}
const step = (n: number) => (path.value && n > 0 ? jump(path.value, (record.value?.record ?? 0) + 1) : fetch({ at: String((record.value?.record ?? 1) + n) }))

// partAt is the smallest part that holds a byte of the text.
function partAt(byte: number): number {
  const r = record.value
  if (!r) return -1
  const b = byte - r.offset
  let best = -1
  r.parts.forEach((p, i) => {
    if (p.from <= b && b < p.to && (best < 0 || p.to - p.from <= r.parts[best].to - r.parts[best].from)) best = i
  })
  return best
}
function point(byte: number) {
  if (extent.value && byte >= extent.value.from && byte < extent.value.to) at.value = partAt(byte)
}
async function choose(byte: number) {
  if (extent.value && byte >= extent.value.from && byte < extent.value.to) at.value = partAt(byte)
  else await fetch({ at: `byte ${byte}` }, byte, false)
}
async function choosePart(i: number) {
  at.value = i
  const part = record.value?.parts[i]
  if (part) text.value?.show(await rowAt(record.value!.offset + part.from))
}

async function search(backwards: boolean) {
  if (!wanted.value || !view.value) return
  const from = hit.value ? (backwards ? hit.value.from : hit.value.from + 1) : backwards ? (seen.value?.bytes ?? 0) : (record.value?.offset ?? 0)
  try {
    const got = (await find(view.value.id, { text: wanted.value, from, backwards })).hit
    if (!got) {
      said.value = `“${wanted.value}” does not come ${hit.value || !backwards ? (backwards ? 'before' : 'behind') + ' this place' : 'in this file'}.`
      return
    }
    tab.value = 'text'
    await fetch({ at: `byte ${got.offset}` }, '', false)
    said.value = ''
    at.value = -1
    hit.value = { from: got.offset, to: got.offset + got.length }
    await nextTick()
    text.value?.show(got.row)
  } catch (e) {
    problem.value = (e as Error).message
  }
}
async function toFinding(f: Finding) {
  tab.value = 'text'
  await nextTick()
  await fetch({ at: `byte ${f.place.offset ?? 0}` }, f.place.offset ?? 0)
  text.value?.show((f.place.line ?? 1) - 1)
}
useKeys((e) => {
  if (typing(e) || !view.value) return
  if (e.key === '/') {
    e.preventDefault()
    document.querySelector<HTMLInputElement>('input.search')?.focus()
  }
  if (e.key === ']') void step(1)
  if (e.key === '[' && (record.value?.record ?? 1) > 1) void step(-1)
})
</script>

<template>
  <main class="page" :class="{ open: seen }" @dragover.prevent="over = true" @dragleave="over = false" @drop.prevent="dropped">
    <div class="head">
      <h1>Samples</h1>
      <template v-if="seen">
        <b>{{ seen.name }}</b>
        <span>{{ headline }}</span>
        <span class="faint">{{ seen.encoding }}{{ seen.compression === 'none' ? '' : `, in ${seen.compression}` }}, {{ size(seen.bytes) }}, {{ many(seen.records, 'record') }}</span>
        <span class="space" />
        <template v-if="seen.guided">
          <span v-if="guide" class="guide" :title="`It describes ${guide.messages.join(', ')}`">against {{ guide.name }} <button aria-label="Hold against the standard" title="Hold against the standard" @click="hold()">×</button></span>
          <label v-else class="pick" tabindex="0" @keydown.enter="($event.target as HTMLElement).querySelector('input')?.click()">Hold against a description…<input type="file" class="guideline" accept=".sef,.txt" aria-label="Description" @change="hold(($event.target as HTMLInputElement).files?.[0])" /></label>
        </template>
        <label class="pick" tabindex="0" @keydown.enter="($event.target as HTMLElement).querySelector('input')?.click()">Another file…<input type="file" class="another" aria-label="Another file" @change="open(($event.target as HTMLInputElement).files?.[0])" /></label>
      </template>
      <span v-else class="faint">Look at a file before there is a route for it. Nothing of it is kept once you leave this page.</span>
    </div>
    <label v-if="!seen" class="sheet drop" :class="{ over }" :aria-busy="sent !== undefined">
      <strong v-if="sent === undefined">Drop a file here, or choose one</strong>
      <strong v-else>{{ sent < 1 ? `Sending ${file?.name}: ${Math.floor(100 * sent)} %` : `Reading ${file?.name}…` }}</strong>
      <span class="faint">CSV, JSON, HL7 v2, X12 and EDIFACT; also in gzip, or as members of a zip archive.</span>
      <input type="file" aria-label="File" @change="open(($event.target as HTMLInputElement).files?.[0])" />
    </label>
    <p v-if="problem" class="sheet wrong" role="alert">{{ problem }}</p>
    <div v-if="view && !seen" class="sheet members">
      <p>{{ file?.name }} is an archive of {{ many(view.members.length, 'file') }}. Which one?</p>
      <Button v-for="m in view.members" :key="m.name" :label="`${m.name} (${size(m.size)})`" size="small" severity="secondary" outlined @click="open(file, m.name)" />
    </div>
    <template v-if="seen && view">
      <div class="bar">
        <div class="tabs" role="tablist">
          <button role="tab" :aria-selected="tab === 'text'" @click="tab = 'text'">Text and structure</button>
          <button role="tab" :aria-selected="tab === 'fields'" @click="tab = 'fields'">{{ many(seen.fields.length, 'field') }}</button>
          <button role="tab" :aria-selected="tab === 'faults'" :class="{ bad: seen.errors }" @click="tab = 'faults'">{{ many(seen.errors, 'error') }}, {{ many(seen.warnings, 'warning') }}</button>
        </div>
        <span v-if="said" class="said" role="status">{{ said }}</span>
        <span class="space" />
        <form @submit.prevent="search(false)"><InputText v-model="wanted" class="search" size="small" placeholder="Find a text" aria-label="Find a text" @update:model-value="hit = undefined" /></form>
        <Button label="↑" size="small" severity="secondary" outlined aria-label="Find the one before" :disabled="!wanted" @click="search(true)" />
        <Button label="↓" size="small" severity="secondary" outlined aria-label="Find the next one" :disabled="!wanted" @click="search(false)" />
        <form @submit.prevent="jump(place)"><InputText v-model="place" class="filter" size="small" placeholder="4711, byte 88112, PID-5" aria-label="Place to go to" /></form>
      </div>
      <div v-show="tab === 'text'" class="panes">
        <div class="sheet"><TextPane ref="text" :sample="view.id" :rows="view.rows" :record="extent" :mark="mark" :faults="faults" @point="point" @choose="choose" /></div>
        <div class="sheet side">
          <div class="record">
            <span v-if="record"><b>record {{ number(record.record) }}</b><span class="faint"> of {{ number(seen.records) }}, line {{ number(record.line) }}: {{ record.kind }}</span></span>
            <span v-else class="faint">no records</span>
            <span class="space" />
            <Button label="Previous" size="small" severity="secondary" text title="[" :disabled="!record || record.record <= 1" @click="step(-1)" />
            <Button :label="path ? `Next with ${path}` : 'Next'" size="small" severity="secondary" text title="]" :disabled="!record || record.record >= seen.records" @click="step(1)" />
          </div>
          <div v-if="!record" class="found"><FindingLine v-for="(f, i) in seen.findings" :key="i" :finding="f" /></div>
          <StructurePane v-if="record" :record="record" :tables="tables" :at="at" @point="at = $event" @choose="choosePart" />
        </div>
      </div>
      <div v-if="tab === 'fields'" class="scroll"><FieldTable :fields="seen.fields" @choose="jump($event)" /></div>
      <div v-if="tab === 'faults'" class="scroll">
        <div class="sheet about">
          <ul class="faint"><li v-for="r in seen.reasons" :key="r">{{ r }}</li></ul>
          <p v-if="seen.settings.length" class="needs">A route needs: <code v-for="s in seen.settings" :key="s">{{ s }}</code></p>
          <template v-if="guide">
            <p class="needs">Validated against {{ guide.name }}, which describes {{ guide.messages.join(', ') }}.</p>
            <ul v-if="guide.findings.length" class="faint"><li v-for="(f, i) in guide.findings" :key="i">line {{ f.place.line }}: {{ f.message }}</li></ul>
          </template>
          <p v-if="!seen.format" class="needs">{{ seen.type ? 'No route reads such files: only its text can be shown.' : 'No format that is known: only its text can be shown.' }}</p>
        </div>
        <div v-if="seen.findings.length" class="sheet found">
          <div v-for="(f, i) in seen.findings" :key="i" class="finding" tabindex="0" title="Show it in the text" @click="toFinding(f)" @keydown.enter="toFinding(f)"><FindingLine :finding="f" /></div>
        </div>
        <p v-else class="faint">Nothing is wrong with this file.</p>
        <p v-if="seen.errors + seen.warnings > seen.findings.length" class="faint">These are the first {{ seen.findings.length }} of {{ number(seen.errors + seen.warnings) }}.</p>
      </div>
    </template>
  </main>
</template>

<style scoped>
.page.open { max-width: none; display: flex; flex-direction: column; height: calc(100vh - 3.4rem); padding-bottom: 0.8rem; }
.page.open .head { margin-bottom: 0.5rem; }
.pick { border: 1px solid var(--line-strong); border-radius: 4px; padding: 0.25rem 0.8rem; background: var(--sheet); cursor: pointer; }
.pick input { display: none; }
.guide { border: 1px solid var(--line); border-radius: 4px; padding: 0.2rem 0.3rem 0.2rem 0.6rem; background: var(--band); font-size: 0.9rem; }
.guide button { border: 0; background: none; cursor: pointer; font: inherit; color: var(--act); padding: 0 0.3rem; }
.drop { display: flex; flex-direction: column; gap: 0.6rem; align-items: center; padding: 4rem 1rem; border: 1px dashed var(--line-strong); cursor: pointer; }
.drop.over { border-color: var(--act); background: var(--band); }
.wrong { border-color: var(--bad); padding: 0.6rem 1rem; }
.members { padding: 0.4rem 1rem 1rem; display: flex; flex-wrap: wrap; gap: 0.5rem; }
.members p { width: 100%; margin: 0.4rem 0; }
.bar { display: flex; align-items: center; gap: 0.5rem; margin-bottom: 0.5rem; }
.bar .space, .record .space { flex: 1; }
.bar .search { width: 11rem; }
.bar .filter { width: 13rem; }
.said { color: var(--warn); margin-left: 0.6rem; }
.tabs { display: flex; gap: 0.2rem; }
.tabs button { border: 0; border-bottom: 2px solid transparent; background: none; color: var(--act); padding: 0.3rem 0.6rem; font: inherit; cursor: pointer; }
.tabs button[aria-selected='true'] { color: var(--ink); border-bottom-color: var(--act); font-weight: 600; }
.tabs button.bad { color: var(--bad); }
.panes { flex: 1; min-height: 0; display: grid; grid-template-columns: minmax(0, 1fr) minmax(0, 1fr); gap: 0.8rem; }
.panes > .sheet { min-height: 0; overflow: hidden; }
.side { display: flex; flex-direction: column; }
.side > .structure { flex: 1; }
.record { display: flex; align-items: center; gap: 0.4rem; padding: 0.1rem 0.3rem 0.1rem 0.7rem; border-bottom: 1px solid var(--line); font-size: 0.9rem; }
.scroll { flex: 1; min-height: 0; overflow: auto; }
.about { padding: 0.5rem 1rem; margin-bottom: 0.8rem; }
ul { margin: 0.2rem 0 0; padding-left: 1.1rem; font-size: 0.9rem; }
.needs { margin: 0.5rem 0 0; font-size: 0.9rem; }
.needs code { background: var(--band); padding: 0.1rem 0.4rem; border-radius: 2px; margin-right: 0.4rem; font-family: var(--mono); }
.found { padding: 0.4rem 1rem; }
.finding { cursor: pointer; }
.finding:hover { background: var(--band); }
</style>
