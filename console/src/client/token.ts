// The service prints an address with its token in the fragment, which browsers
// do not send. The token is kept for this tab, and given to new tabs of the same
// console that ask for it; no disk keeps it.
import { ref } from 'vue'

const key = 'ydrion-token'

// refused says why the token that was given is not used.
export const refused = ref('')

function fromAddress(): string {
  const found = /^#token=(.+)$/.exec(location.hash)
  if (!found) return sessionStorage.getItem(key) ?? ''
  history.replaceState(null, '', location.pathname + location.search)
  sessionStorage.setItem(key, found[1])
  return found[1]
}

export const token = ref(fromAddress())

// setToken takes a token, or the whole address that the service printed.
export function setToken(given: string) {
  const value = (/#token=(\S+)/.exec(given)?.[1] ?? given).trim()
  refused.value = ''
  if (/[^\x21-\x7e]/.test(value)) {
    refused.value = 'This is not a token: it holds a space or another character that tokens do not have.'
    return
  }
  token.value = value
  sessionStorage.setItem(key, value)
}

// refuse forgets a token that the service did not accept, unless another has come since.
export function refuse(used: string) {
  if (used !== token.value) return
  token.value = ''
  sessionStorage.removeItem(key)
  refused.value = 'The service does not accept this token. It may have been started anew with another data folder.'
}

const tabs = new BroadcastChannel('ydrion')
tabs.onmessage = (e: MessageEvent<{ asks?: boolean; token?: string }>) => {
  if (e.data.asks && token.value) tabs.postMessage({ token: token.value })
  if (e.data.token && !token.value && !refused.value) setToken(e.data.token)
}
if (!token.value) tabs.postMessage({ asks: true })
