// The colour scheme: that of the system until somebody chooses.
import { ref } from 'vue'

const key = 'ydrion-scheme'
const system = matchMedia('(prefers-color-scheme: dark)')
export const night = ref((localStorage.getItem(key) ?? (system.matches ? 'night' : 'day')) === 'night')

function apply() {
  document.documentElement.classList.toggle('night', night.value)
}

export function toggleScheme() {
  night.value = !night.value
  localStorage.setItem(key, night.value ? 'night' : 'day')
  apply()
}

apply()
