// Keyboard use: j and k (or the arrows) walk through a list, Enter opens, /
// goes to the filter, g and a letter goes to a page.
import { onMounted, onUnmounted, ref, watch, type Ref } from 'vue'
import { useRouter, type RouteLocationRaw } from 'vue-router'

export function typing(e: KeyboardEvent): boolean {
  const t = e.target as HTMLElement
  return t.matches('input:not([type=checkbox]), textarea, select, [contenteditable], [role=combobox], [role=listbox]') || e.ctrlKey || e.metaKey || e.altKey
}

export function useKeys(handle: (e: KeyboardEvent) => void) {
  onMounted(() => addEventListener('keydown', handle))
  onUnmounted(() => removeEventListener('keydown', handle))
}

// useOpen opens what a row is about: here, or in another tab with the keys and buttons that
// browsers have for that. Who marks text in a row does not open it.
export function useOpen<T>(to: (row: T) => RouteLocationRaw) {
  const router = useRouter()
  return (row: T, e?: MouseEvent | KeyboardEvent) => {
    const elsewhere = e instanceof MouseEvent && (e.ctrlKey || e.metaKey || e.shiftKey || e.button === 1)
    if (e instanceof MouseEvent && !getSelection()?.isCollapsed) return
    if (elsewhere) window.open(router.resolve(to(row)).href, '_blank')
    else void router.push(to(row))
  }
}

// useRows walks through a list of rows; at is the row that is marked. The mark stays on its
// row when others come or go, so that Enter opens what was marked and nothing else.
export function useRows<T>(rows: Ref<T[]>, open: (row: T) => void, key: (row: T) => unknown) {
  const at = ref(-1)
  let marked: unknown
  watch(rows, (list) => {
    if (at.value >= 0) at.value = list.findIndex((row) => key(row) === marked)
  })
  useKeys((e) => {
    if (typing(e) || document.querySelector('.p-dialog-mask')) return
    const step = { j: 1, ArrowDown: 1, k: -1, ArrowUp: -1 }[e.key]
    if (step && rows.value.length) {
      e.preventDefault()
      at.value = Math.max(0, Math.min(rows.value.length - 1, at.value + step))
      marked = key(rows.value[at.value])
      requestAnimationFrame(() => document.querySelector('tr.at')?.scrollIntoView({ block: 'nearest' }))
    }
    const row = rows.value[at.value]
    if (e.key === 'Enter' && row !== undefined && !(e.target as HTMLElement).matches('a, button')) open(row)
  })
  return at
}
