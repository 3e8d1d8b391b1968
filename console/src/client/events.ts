// Live events. They are read with fetch, because the browser's own reader of
// server-sent events cannot send a token.
import { onUnmounted, ref, watch } from 'vue'
import type { components } from './api.gen'
import { refuse, token } from './token'

export interface LiveEvent {
  kind: 'pickup' | 'progress' | 'route' | 'alert' | 'missed'
  route: string
  pickup?: number
  run?: number
  name?: string
  state?: string
  reason?: string
  balance?: components['schemas']['Balance']
  seconds?: number
}

type Listener = (e: LiveEvent) => void
const listeners = new Set<Listener>()

// connected tells whether what is shown is live.
export const connected = ref(false)

// last is the id of the last event that came: a connection that was cut goes on behind it.
let last = ''

async function listen() {
  for (;;) {
    try {
      if (token.value) await read()
    } catch {
      // The service has gone away; it is asked again below.
    }
    connected.value = false
    await new Promise((resolve) => setTimeout(resolve, 1500))
  }
}

async function read() {
  const used = token.value
  const headers: Record<string, string> = { Authorization: `Bearer ${used}` }
  if (last) headers['Last-Event-ID'] = last
  const response = await fetch('/api/events', { headers })
  if (response.status === 401) refuse(used)
  if (!response.ok || !response.body) return
  connected.value = true
  const reader = response.body.pipeThrough(new TextDecoderStream()).getReader()
  let text = ''
  for (;;) {
    const { done, value } = await reader.read()
    if (done) return
    text += value
    const blocks = text.split('\n\n')
    text = blocks.pop() ?? ''
    for (const block of blocks) {
      last = /^id: (.*)$/m.exec(block)?.[1] ?? last
      const data = block.split('\n').find((line) => line.startsWith('data: '))
      if (data) listeners.forEach((tell) => tell(JSON.parse(data.slice(6))))
    }
  }
}

let listening = false

// useEvents tells a page what happens while it is shown.
export function useEvents(tell: Listener) {
  if (!listening) {
    listening = true
    void listen()
  }
  listeners.add(tell)
  onUnmounted(() => listeners.delete(tell))
}

// useRefresh asks again when something happens, but not more often than every
// 400 ms.
export function useRefresh(concerns: (e: LiveEvent) => boolean, ask: () => void) {
  let timer: ReturnType<typeof setTimeout> | undefined
  // What happened while nobody could be asked is asked for when somebody can.
  watch(connected, (now) => now && ask())
  useEvents((e) => {
    if ((e.kind !== 'missed' && !concerns(e)) || timer) return
    timer = setTimeout(() => {
      timer = undefined
      ask()
    }, 400)
  })
  onUnmounted(() => clearTimeout(timer))
}
