// The values of a record as they are shown: one by one, and the rows of a list as a table.
import type { Line } from '../../client'

export interface ListTable {
  path: string // of the list
  columns: string[]
  rows: { at: string; cells: (Line | undefined)[] }[]
}
export type Block = { line: Line; table?: undefined } | { table: ListTable; line?: undefined }

const mostColumns = 9

// cell takes the path of a value in a row apart: the list, the row, and what is left. Columns of the first row of several
// have no number.
function cell(path: string, several: Set<string>): { list: string; row: string; column: string } | undefined {
  const pointer = /^(\/.*?)\/(\d+)(?:\/(.*))?$/.exec(path)
  if (pointer) return { list: pointer[1], row: pointer[2], column: pointer[3] ?? '' }
  const named = /^([^[\]]+)\[(\d+)\]$/.exec(path)
  if (named) return { list: '', row: named[2], column: named[1] }
  if (several.has(path)) return { list: '', row: '1', column: path }
  return undefined
}

// inRows tells whether a column has itself rows: then it is no table.
const inRows = (column: string) => /(^|\/)\d+(\/|$)|\[\d+\]/.test(column)

// blocks makes a table of values that follow each other and are of the rows of one list.
export function blocks(lines: Line[]): Block[] {
  const out: Block[] = []
  const several = new Set(lines.map((l) => /^([^[\]]+)\[2\]$/.exec(l.path)?.[1] ?? ''))
  for (let i = 0; i < lines.length; ) {
    const first = lines[i].folded ? undefined : cell(lines[i].path, several)
    let end = i
    const table: ListTable = { path: first?.list ?? '', columns: [], rows: [] }
    while (first && end < lines.length && !lines[end].folded) {
      const c = cell(lines[end].path, several)
      if (!c || c.list !== first.list || inRows(c.column)) break
      const last = table.rows[table.rows.length - 1]
      if (last && Number(c.row) < Number(last.at)) break
      let column = table.columns.indexOf(c.column)
      if (column < 0) column = table.columns.push(c.column) - 1
      if (last?.at === c.row && last.cells[column]) break
      const row = last?.at === c.row ? last : { at: c.row, cells: [] as (Line | undefined)[] }
      if (row !== last) table.rows.push(row)
      row.cells[column] = lines[end++]
    }
    if (table.rows.length > 1 && table.columns.length > 1 && table.columns.length <= mostColumns) {
      for (const row of table.rows) row.cells = table.columns.map((_, k) => row.cells[k])
      out.push({ table })
      i = end
      continue
    }
    for (end = Math.max(end, i + 1); i < end; i++) out.push({ line: lines[i] })
  }
  return out
}
