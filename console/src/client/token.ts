// The service prints an address with its token in the fragment, which browsers
// do not send. The token is kept for this tab.
import { ref } from 'vue'

const key = 'ydrion-token'

function fromAddress(): string {
  const found = /^#token=(.+)$/.exec(location.hash)
  if (!found) return sessionStorage.getItem(key) ?? ''
  history.replaceState(null, '', location.pathname + location.search)
  sessionStorage.setItem(key, found[1])
  return found[1]
}

export const token = ref(fromAddress())

export function setToken(value: string) {
  token.value = value.trim()
  sessionStorage.setItem(key, token.value)
}
