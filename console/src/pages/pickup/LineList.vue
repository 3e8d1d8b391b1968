<script setup lang="ts">
// The values of a record or of what it became: by name, lists as tables, rows that are too many left out.
import { computed } from 'vue'
import type { Line } from '../../client'
import FoldedLine from './FoldedLine.vue'
import { blocks } from './lists'

const props = defineProps<{ lines: Line[]; bad?: Set<string | undefined>; source?: boolean; unfolds?: boolean }>()
const emit = defineEmits<{ unfold: [] }>()
const shown = computed(() => blocks(props.lines))
// A thin line stands where another row of a list begins: where the numbers in the path change.
const row = (path: string) => (path.match(/\[\d+\]|\/\d+(?=\/|$)/g) ?? []).join()
const begins = (i: number) => {
  const [before, now] = [shown.value[i - 1]?.line, shown.value[i].line]
  return !!before && !!now && row(now.path) !== row(before.path)
}
const isBad = (line?: Line) => !!line && !!props.bad?.has(line.path)
</script>

<template>
  <dl>
    <template v-for="(b, i) in shown" :key="i">
      <div v-if="b.table" class="list">
        <table class="mono">
          <thead>
            <tr><th class="num">{{ b.table.path }}</th><th v-for="c in b.table.columns" :key="c">{{ c || 'value' }}</th></tr>
          </thead>
          <tbody>
            <tr v-for="r in b.table.rows" :key="r.at">
              <th class="num">{{ r.at }}</th>
              <td v-for="(c, k) in r.cells" :key="k" :class="{ bad: isBad(c) }" :title="c && `${c.path}: ${c.value}`">{{ c?.value }}<span v-if="c && !c.value" class="none">empty</span></td>
            </tr>
          </tbody>
        </table>
      </div>
      <FoldedLine v-else-if="b.line.folded" :mono="!source" :line="b.line" :unfolds="unfolds" @unfold="emit('unfold')" />
      <template v-else>
        <dt :class="{ row: begins(i), mono: !source }">{{ b.line.path || '(no column)' }}</dt>
        <dd class="mono" :class="{ bad: isBad(b.line), row: begins(i) }">{{ b.line.value }}<span v-if="source && !b.line.value" class="none">empty</span></dd>
      </template>
    </template>
  </dl>
</template>

<style scoped>
dl { margin: 0; display: grid; grid-template-columns: 8.5rem 1fr; gap: 0.05rem 0; align-content: start; font-size: 0.92rem; max-height: 42rem; overflow: auto; }
dt { padding-right: 0.8rem; color: var(--faint); overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
dd { margin: 0; overflow-wrap: anywhere; white-space: pre-wrap; }
.row { border-top: 1px dotted var(--line); }
.bad { background: var(--mark); text-decoration: underline wavy var(--bad) 1.5px; text-underline-offset: 3px; }
.none { color: var(--faint); font-style: italic; opacity: 0.7; }
.list { grid-column: 1 / -1; overflow-x: auto; margin: 0.25rem 0; }
table { border-collapse: collapse; }
th { font-weight: normal; color: var(--faint); text-align: left; }
th, td { padding: 0.1rem 0.9rem 0.25rem 0; vertical-align: baseline; white-space: pre; border-top: 1px dotted var(--line); }
thead th { border-top: 0; }
th.num { text-align: right; }
td { max-width: 18rem; overflow: hidden; text-overflow: ellipsis; }
</style>
