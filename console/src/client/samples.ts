// Files that somebody looks at: they are sent once, and asked for piece by piece.
import { answer, client, Problem } from '.'
import type { components } from './api.gen'
import { refuse, token } from './token'

export type SampleView = components['schemas']['SampleView']
export type Look = components['schemas']['Look']
export type Field = components['schemas']['Field']
export type Shown = components['schemas']['Shown']
export type Part = components['schemas']['Node']
export type Row = components['schemas']['Row']
export type DescriptionView = components['schemas']['DescriptionView']
export type Table = components['schemas']['Table']

// send sends a file; progress is told how much of it has gone, from 0 to 1. Messages are validated against a
// description that has been sent, if one is named.
export const send = (file: File, member: string, description: string, progress: (part: number) => void) => upload<SampleView>(`/api/samples?${new URLSearchParams({ name: file.name, member, description })}`, file, progress)

// describe sends a description of messages.
export const describe = (file: File) => upload<DescriptionView>(`/api/descriptions?${new URLSearchParams({ name: file.name })}`, file)

function upload<T>(path: string, file: File, progress?: (part: number) => void): Promise<T> {
  return new Promise((done, failed) => {
    const request = new XMLHttpRequest()
    const used = token.value
    request.open('POST', path)
    request.setRequestHeader('Authorization', `Bearer ${used}`)
    request.setRequestHeader('Content-Type', 'application/octet-stream')
    request.responseType = 'json'
    request.upload.onprogress = (e) => progress?.(e.total ? e.loaded / e.total : 0)
    request.onerror = () => failed(new Problem('The service does not answer. Is it running?'))
    request.onload = () => {
      if (request.status === 200) return done(request.response as T)
      if (request.status === 401) refuse(used)
      failed(new Problem(request.response?.detail ?? 'The service could not look at the file.'))
    }
    request.send(file)
  })
}

export const rows = (id: string, from: number, count: number) => answer(client.GET('/api/samples/{id}/rows', { params: { path: { id }, query: { from, rows: count } } }))
export const records = (id: string, query: { at: string; from?: number; records?: number }) => answer(client.GET('/api/samples/{id}/records', { params: { path: { id }, query } }))
export const find = (id: string, query: { text: string; from: number; backwards: boolean }) => answer(client.GET('/api/samples/{id}/find', { params: { path: { id }, query } }))
export const rowOf = (id: string, byte: number) => answer(client.GET('/api/samples/{id}/row', { params: { path: { id }, query: { byte } } }))

// forget lets the service drop a sample; it would do so by itself later.
export function forget(id: string) {
  void fetch(`/api/samples/${id}`, { method: 'DELETE', headers: { Authorization: `Bearer ${token.value}` }, keepalive: true }).catch(() => undefined)
}
