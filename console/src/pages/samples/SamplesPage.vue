<script setup lang="ts">
// Looks at a file that somebody drops here: what it is, its fields, its records, and
// what is wrong with it. Nothing of it is kept.
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import { computed, ref } from 'vue'
import { look, type Look } from '../../client/look'
import { many, number, size } from '../../words'
import FindingLine from '../pickup/FindingLine.vue'
import RecordSheet from './RecordSheet.vue'

const file = ref<File>()
const seen = ref<Look>()
const problem = ref('')
const busy = ref(false)
const over = ref(false)
const place = ref('')
const at = ref('')

const names: Record<string, string> = { csv: 'CSV', json: 'JSON', hl7: 'HL7 v2', x12: 'X12', edifact: 'EDIFACT' }
const headline = computed(() => {
  const l = seen.value
  if (!l) return ''
  return [names[l.format] ?? 'no format that is known', l.version, l.type].filter(Boolean).join(' ')
})
const readable = computed(() => ['csv', 'json', 'hl7'].includes(seen.value?.format ?? ''))
const record = computed(() => seen.value?.shown[0])
const meanings = computed(() => seen.value?.fields.some((f) => f.meaning) ?? false)
const meaningOf = computed(() => Object.fromEntries((seen.value?.fields ?? []).map((f) => [f.path, f.meaning])))

async function open(f: File | undefined, to = '') {
  if (!f || busy.value) return
  busy.value = true
  problem.value = ''
  if (f !== file.value) seen.value = undefined
  file.value = f
  at.value = to
  try {
    seen.value = await look(f, to, /^[A-Z/]/.test(to) || /^[a-z_]/.test(to) && !/^(record|byte) /.test(to) ? 20 : 1)
  } catch (e) {
    problem.value = (e as Error).message
  } finally {
    busy.value = false
  }
}
function drop(e: DragEvent) {
  over.value = false
  void open(e.dataTransfer?.files[0])
}
const step = (n: number) => open(file.value, String(Math.max(1, (record.value?.record ?? 1) + n)))
</script>

<template>
  <main class="page" @dragover.prevent="over = true" @dragleave="over = false" @drop.prevent="drop">
    <div class="head">
      <h1>Samples</h1>
      <span class="faint">Look at a file before there is a route for it. Nothing of it is kept.</span>
      <span class="space" />
      <label v-if="seen" class="pick" tabindex="0" @keydown.enter="($event.target as HTMLElement).querySelector('input')?.click()">Another file…<input type="file" aria-label="Another file" @change="open(($event.target as HTMLInputElement).files?.[0])" /></label>
    </div>
    <label v-if="!seen" class="sheet drop" :class="{ over }" :aria-busy="busy">
      <strong>{{ busy ? `Reading ${file?.name}…` : 'Drop a file here, or choose one' }}</strong>
      <span class="faint">CSV, JSON and HL7 v2 are read; X12 and EDIFACT are recognised. Files in gzip are undone.</span>
      <input type="file" aria-label="File" @change="open(($event.target as HTMLInputElement).files?.[0])" />
    </label>
    <p v-if="problem" class="sheet wrong" role="alert">{{ problem }}</p>
    <template v-if="seen">
      <div class="sheet about">
        <div class="what">
          <b>{{ seen.name }}</b>
          <span>{{ headline }}</span>
          <span>{{ seen.encoding }}{{ seen.compression === 'none' ? '' : `, in ${seen.compression}` }}</span>
          <span>{{ size(seen.bytes) }}</span>
          <span v-if="readable">{{ many(seen.records, 'record') }}</span>
          <span v-if="readable" :class="{ bad: seen.errors }">{{ many(seen.errors, 'error') }}</span>
          <span v-if="readable">{{ many(seen.warnings, 'warning') }}</span>
        </div>
        <ul class="faint"><li v-for="r in seen.reasons" :key="r">{{ r }}</li></ul>
        <p v-if="seen.settings.length" class="needs">A route needs: <code v-for="s in seen.settings" :key="s">{{ s }}</code></p>
        <p v-if="!readable" class="needs">Files of this kind cannot be read yet.</p>
      </div>
      <div v-if="readable" class="two">
        <section>
          <h2>{{ many(seen.fields.length, 'field') }}</h2>
          <div class="scroll">
            <table class="list">
              <thead><tr><th>Field</th><th v-if="meanings">Meaning</th><th class="num">Filled</th><th>Looks like</th><th>For example</th></tr></thead>
              <tbody>
                <tr v-for="f in seen.fields" :key="f.path" :class="{ at: at === f.path }" tabindex="0" :title="`Show records with ${f.path}`" @click="open(file, f.path)" @keydown.enter="open(file, f.path)">
                  <td class="mono nowrap">{{ f.path }}</td>
                  <td v-if="meanings">{{ f.meaning }}</td>
                  <td class="num">{{ number(f.filled) }}</td>
                  <td>{{ f.looks_like }}</td>
                  <td class="mono example">{{ f.example }}</td>
                </tr>
              </tbody>
            </table>
          </div>
        </section>
        <section>
          <div class="bar">
            <h2>{{ seen.shown.length > 1 ? `${many(seen.shown.length, 'record')} with ${at}` : 'Record' }}</h2>
            <span class="space" />
            <Button label="Previous" size="small" severity="secondary" outlined :disabled="busy || !record || record.record <= 1" @click="step(-1)" />
            <Button label="Next" size="small" severity="secondary" outlined :disabled="busy || !record || record.record >= seen.records" @click="step(1)" />
            <form @submit.prevent="open(file, place.trim())"><InputText v-model="place" class="filter" size="small" placeholder="4711, byte 88112, PID-5" aria-label="Place to go to" /></form>
          </div>
          <div class="scroll">
            <RecordSheet v-for="r in seen.shown" :key="r.record" :record="r" :meanings="meaningOf" />
            <p v-if="!seen.shown.length" class="faint">There is no record at {{ at || 'this place' }}.</p>
          </div>
        </section>
      </div>
      <template v-if="seen.findings.length">
        <h2>What is wrong</h2>
        <div class="sheet found"><FindingLine v-for="(f, i) in seen.findings" :key="i" :finding="f" /></div>
        <p v-if="seen.errors + seen.warnings > seen.findings.length" class="faint">These are the first {{ seen.findings.length }} of {{ number(seen.errors + seen.warnings) }}.</p>
      </template>
    </template>
  </main>
</template>

<style scoped>
.pick { border: 1px solid var(--line-strong); border-radius: 4px; padding: 0.25rem 0.8rem; background: var(--sheet); cursor: pointer; }
.pick input { display: none; }
.nowrap { white-space: nowrap; }
.two table { font-size: 0.92rem; }
.drop { display: flex; flex-direction: column; gap: 0.6rem; align-items: center; padding: 4rem 1rem; border: 1px dashed var(--line-strong); cursor: pointer; }
.drop.over { border-color: var(--act); background: var(--band); }
.wrong { border-color: var(--bad); padding: 0.8rem 1rem; }
.about { padding: 0.7rem 1rem; }
.what { display: flex; flex-wrap: wrap; gap: 0.3rem 1.2rem; }
.bad { color: var(--bad); font-weight: 600; }
ul { margin: 0.5rem 0 0; padding-left: 1.1rem; font-size: 0.9rem; }
.needs { margin: 0.5rem 0 0; font-size: 0.9rem; }
.needs code { background: var(--band); padding: 0.1rem 0.4rem; border-radius: 2px; margin-right: 0.4rem; font-family: var(--mono); }
.two { display: grid; grid-template-columns: minmax(0, 3fr) minmax(0, 2fr); gap: 1.2rem; }
.scroll { max-height: 26rem; overflow: auto; }
.bar { display: flex; align-items: baseline; gap: 0.5rem; }
.bar .space { flex: 1; }
.bar .filter { width: 12rem; }
.example { max-width: 11rem; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
.found { padding: 0.4rem 1rem; }
</style>
