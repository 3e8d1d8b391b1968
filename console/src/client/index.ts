// The typed client: types come from the service's OpenAPI document.
import createClient from 'openapi-fetch'
import type { components, paths } from './api.gen'
import { refuse, token } from './token'

export type Act = components['schemas']['Act']
export type RouteView = components['schemas']['RouteView']
export type Sheet = components['schemas']['Sheet']
export type Stage = components['schemas']['Stage']
export type Overview = components['schemas']['Overview']
export type Pickup = components['schemas']['Pickup']
export type PickupDetail = components['schemas']['PickupDetail']
export type Run = components['schemas']['Run']
export type Line = components['schemas']['Line']
export type Trial = components['schemas']['Trial']
export type RecordView = components['schemas']['RecordView']
export type Explained = components['schemas']['Explained']
export type FoundRecord = components['schemas']['FoundRecord']
export type Lookup = components['schemas']['Lookup']
export type EnvironmentPlace = components['schemas']['EnvironmentPlace']
export type Finding = components['schemas']['Finding']
export type PickupState = Pickup['state']
export type Alert = components['schemas']['Alert']
export type Lane = components['schemas']['Lane']
export type Expected = components['schemas']['Expected']
export type NodeView = components['schemas']['NodeView']
export type AgainAnswer = components['schemas']['AgainAnswer']
export type AgainRequest = components['schemas']['AgainRequest']
export type DecisionWord = components['schemas']['Decision']['decision']

export const client = createClient<paths>({ baseUrl: '/' })

client.use({
  onRequest({ request }) {
    request.headers.set('Authorization', `Bearer ${token.value}`)
    return request
  },
  onResponse({ request, response }) {
    if (response.status === 401) refuse((request.headers.get('Authorization') ?? '').slice('Bearer '.length))
    return response
  },
})

// Problem is what a request ends with when it does not end well.
export class Problem extends Error {}

export async function answer<T>(request: Promise<{ data?: T; error?: { detail?: string; title?: string } }>): Promise<T> {
  let result
  try {
    result = await request
  } catch {
    throw new Problem('The service does not answer. Is it running?')
  }
  if (result.data === undefined) throw new Problem(result.error?.detail ?? result.error?.title ?? 'The service answered with an error.')
  return result.data
}

export const overview = () => answer(client.GET('/api/overview'))
export const routes = () => answer(client.GET('/api/routes'))
export const route = (name: string) => answer(client.GET('/api/routes/{name}', { params: { path: { name } } }))
// Said is who asks for something, and why; both are kept.
export interface Said {
  by?: string
  because?: string
}
// saidHere is who sits here, as far as that was said, and no reason.
export const saidHere = (): Said => ({ by: localStorage.getItem('by') || 'the console' })

// fetched asks for what the typed client does not send or read: files.
async function fetched(path: string, init: RequestInit = {}) {
  const used = token.value
  let response
  try {
    response = await fetch(path, { ...init, headers: { ...init.headers, Authorization: `Bearer ${used}` } })
  } catch {
    throw new Problem('The service does not answer. Is it running?')
  }
  if (response.status === 401) refuse(used)
  return response
}
export const startRoute = (name: string, query: Said = saidHere()) => answer(client.POST('/api/routes/{name}/start', { params: { path: { name }, query } }))
export const stopRoute = (name: string, query: Said = saidHere()) => answer(client.POST('/api/routes/{name}/stop', { params: { path: { name }, query } }))

export const pauseRoute = (name: string, until?: string, query: Said = saidHere()) => answer(client.POST('/api/routes/{name}/pause', { params: { path: { name }, query }, body: { until } }))
export const take = (name: string, file?: string) => answer(client.POST('/api/routes/{name}/take', { params: { path: { name } }, body: { file } }))
export const alerts = (query: { open?: boolean; route?: string; before?: number; limit?: number }) => answer(client.GET('/api/alerts', { params: { query } }))
export const seeAlerts = (ids?: number[]) => answer(client.POST('/api/alerts/seen', { body: { alerts: ids, all: ids === undefined, by: saidHere().by } }))
export const lanes = (name?: string) => answer(client.GET('/api/lanes', { params: { query: { route: name } } }))
export const expectations = (name?: string) => answer(client.GET('/api/expectations', { params: { query: { route: name } } }))
export const nodes = () => answer(client.GET('/api/nodes'))
export const decide = (id: number, decision: DecisionWord, query: Said = saidHere()) => answer(client.POST('/api/pickups/{id}/decision', { params: { path: { id }, query }, body: { decision } }))

// hand gives a file to a route; as a trial nothing is delivered or recorded.
export async function hand<T>(name: string, file: File, trial: boolean, said: Said = saidHere()): Promise<T> {
  const query = new URLSearchParams(trial ? { name: file.name, trial: 'true', limit: '20', explain: 'true' } : { name: file.name, ...said })
  const response = await fetched(`/api/routes/${encodeURIComponent(name)}/files?${query}`, { method: 'POST', body: file, headers: { 'Content-Type': 'application/octet-stream' } })
  const body = await response.json()
  if (!response.ok) throw new Problem(body.detail ?? 'The service did not take the file.')
  return body as T
}

export interface PickupQuery {
  route?: string
  state?: string[]
  name?: string
  output?: string
  lane?: string
  since?: string
  until?: string
  before?: number
  limit?: number
}

export const pickups = (query: PickupQuery) =>
  answer(client.GET('/api/pickups', { params: { query }, querySerializer: { array: { style: 'form', explode: false } } }))
export const pickup = (id: number) => answer(client.GET('/api/pickups/{id}', { params: { path: { id } } }))
export const findRecords = (query: { text: string; route?: string; since?: string; before?: number; from?: number; limit?: number }, signal?: AbortSignal) =>
  answer(client.GET('/api/records', { params: { query }, signal }))
export const places = () => answer(client.GET('/api/places'))
// tryPlace lets the service write a probe there and remove it again.
export const tryPlace = (name: string, folder: string) => answer(client.POST('/api/places/{name}/try', { params: { path: { name }, query: { folder } } }))
export const lookups = (name?: string) => answer(name ? client.GET('/api/lookups/{name}', { params: { path: { name } } }) : client.GET('/api/lookups'))
export const lookupContent = (name: string, version: number) => answer(client.GET('/api/lookups/{name}/content', { params: { path: { name }, query: { version } } }))
export const records = (id: number, query: { from: number; limit: number; rejected: boolean; warned?: boolean; rows?: number; explain?: boolean }) =>
  answer(client.GET('/api/runs/{id}/records', { params: { path: { id }, query } }))
export const runAgain = (body: AgainRequest, query: Said = saidHere()) => answer(client.POST('/api/again', { body, params: { query } }))

// original fetches the file as it arrived and hands it to the browser.
export async function original(p: Pickup) {
  const response = await fetched(`/api/pickups/${p.id}/original`)
  if (!response.ok) throw new Problem('The original is not in the archive.')
  const address = URL.createObjectURL(await response.blob())
  const link = document.createElement('a')
  link.href = address
  link.download = p.name
  link.click()
  URL.revokeObjectURL(address)
}
