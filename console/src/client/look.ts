// What the service says of a file that no route has been made for yet.
import { Problem, type Finding } from '.'
import { token } from './token'

export interface Value {
  path: string
  value: string
}

export interface Field {
  path: string
  meaning: string
  filled: number
  empty: number
  looks_like: string
  longest: number
  example: string
}

export interface Shown {
  record: number
  line: number
  offset: number
  kind: string
  values: Value[]
  raw: string
}

export interface Look {
  name: string
  format: string
  version: string
  type: string
  encoding: string
  compression: string
  confidence: string
  reasons: string[]
  settings: string[]
  bytes: number
  records: number
  kinds: { name: string; version: string; count: number }[]
  fields: Field[]
  errors: number
  warnings: number
  findings: Finding[]
  shown: Shown[]
}

// look sends a file to be looked at; at is a place to show.
export async function look(file: File, at: string, records: number): Promise<Look> {
  const query = new URLSearchParams({ name: file.name, records: String(records) })
  if (at) query.set('at', at)
  const response = await fetch(`/api/look?${query}`, { method: 'POST', body: file, headers: { Authorization: `Bearer ${token.value}`, 'Content-Type': 'application/octet-stream' } })
  const body = await response.json()
  if (!response.ok) throw new Problem(body.detail ?? 'The service could not look at the file.')
  return body as Look
}
