<script setup lang="ts">
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'
import InputText from 'primevue/inputtext'
import { ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { alerts } from './client'
import { connected, useEvents } from './client/events'
import { refused, setToken, token } from './client/token'
import { typing, useKeys } from './keys'
import { night, toggleScheme } from './scheme'
import { zone } from './words'

const router = useRouter()
const given = ref('')
const help = ref(false)
const pages: Record<string, string> = { o: 'overview', r: 'routes', p: 'pickups', d: 'records', l: 'places', a: 'attention', s: 'samples' }
let going = false

const unseen = ref(0)
async function count() {
  if (!token.value) return
  try {
    unseen.value = (await alerts({ open: true, limit: 100 })).items.length
  } catch {
    // The pages say what is wrong with the service.
  }
}
watch(token, count, { immediate: true })
useEvents((e) => {
  if (e.kind === 'alert' || e.kind === 'missed') void count()
})
useKeys((e) => {
  if (typing(e)) return
  if (going && pages[e.key]) void router.push({ name: pages[e.key] })
  going = e.key === 'g'
  if (e.key === '?') help.value = !help.value
  if (e.key === '/') {
    const filter = document.querySelector<HTMLInputElement>('input.filter')
    if (filter) {
      e.preventDefault()
      filter.focus()
    }
  }
})
</script>

<template>
  <header>
    <RouterLink to="/" class="brand"><img src="/mark.svg" alt="" width="22" height="22" /> Ydrion</RouterLink>
    <nav>
      <RouterLink :to="{ name: 'overview' }">Overview</RouterLink>
      <RouterLink :to="{ name: 'routes' }" :class="{ within: $route.name === 'route' }">Routes</RouterLink>
      <RouterLink :to="{ name: 'pickups' }" :class="{ within: $route.name === 'pickup' }">Pickups</RouterLink>
      <RouterLink :to="{ name: 'records' }">Records</RouterLink>
      <RouterLink :to="{ name: 'places' }">Places</RouterLink>
      <RouterLink :to="{ name: 'samples' }">Samples</RouterLink>
      <RouterLink :to="{ name: 'attention' }">Attention<span v-if="unseen" class="unseen" :title="`${unseen} alerts that nobody has seen`">{{ unseen >= 100 ? '99+' : unseen }}</span></RouterLink>
    </nav>
    <span class="space" />
    <span class="zone" title="All times are shown in the time zone of this browser">{{ zone }}</span>
    <span class="live" :class="{ on: connected }" role="status">{{ connected ? 'live' : 'not live' }}</span>
    <button class="plain" :title="night ? 'Use the light scheme' : 'Use the dark scheme'" @click="toggleScheme">{{ night ? 'Day' : 'Night' }}</button>
    <button class="plain" title="Keys (?)" @click="help = true">Keys</button>
  </header>
  <main v-if="!token" class="page">
    <div class="sheet door">
      <h1>This service asks for its token</h1>
      <p class="faint">Open the address that the service printed when it started, or paste the token. It is in the file <code>token</code> in the service's data folder.</p>
      <p v-if="refused" class="refused" role="alert">{{ refused }}</p>
      <form @submit.prevent="setToken(given)">
        <InputText v-model="given" type="password" placeholder="Token or address" aria-label="Token" autofocus />
        <Button type="submit" label="Open" :disabled="!given.trim()" />
      </form>
    </div>
  </main>
  <RouterView v-else :key="$route.path" />
  <Dialog v-model:visible="help" modal header="Keys" dismissable-mask>
    <dl class="keys">
      <dt><kbd>j</kbd> <kbd>k</kbd></dt><dd>next and previous row</dd>
      <dt><kbd>Enter</kbd></dt><dd>open the row</dd>
      <dt><kbd>/</kbd></dt><dd>go to the filter</dd>
      <dt><kbd>g</kbd> <kbd>o</kbd></dt><dd>go to the overview</dd>
      <dt><kbd>g</kbd> <kbd>r</kbd></dt><dd>go to the routes</dd>
      <dt><kbd>g</kbd> <kbd>p</kbd></dt><dd>go to the pickups</dd>
      <dt><kbd>g</kbd> <kbd>d</kbd></dt><dd>go to finding records</dd>
      <dt><kbd>g</kbd> <kbd>l</kbd></dt><dd>go to the places</dd>
      <dt><kbd>g</kbd> <kbd>a</kbd></dt><dd>go to what needs attention</dd>
      <dt><kbd>g</kbd> <kbd>s</kbd></dt><dd>go to the samples</dd>
      <dt><kbd>?</kbd></dt><dd>this list</dd>
    </dl>
  </Dialog>
</template>

<style scoped>
header { display: flex; align-items: center; gap: 1.1rem; padding: 0 1.5rem; height: 46px; background: var(--sheet); border-bottom: 1px solid var(--line-strong); position: sticky; top: 0; z-index: 5; }
.brand { display: flex; align-items: center; gap: 0.55rem; font-weight: 700; color: var(--ink); letter-spacing: 0.01em; }
nav { display: flex; gap: 0.3rem; margin-left: 0.8rem; height: 100%; }
nav a { color: var(--faint); padding: 0 0.7rem; display: flex; align-items: center; border-bottom: 2px solid transparent; border-top: 2px solid transparent; }
nav a.router-link-exact-active, nav a.within { color: var(--ink); border-bottom-color: var(--act); font-weight: 600; }
.unseen { margin-left: 0.45rem; padding: 0 0.4rem; border-radius: 8px; font-size: 0.78rem; font-weight: 600; background: var(--bad); color: var(--sheet); }
.space { flex: 1; }
.zone { font-size: 0.85rem; color: var(--faint); }
.refused { border-left: 3px solid var(--bad); padding-left: 0.7rem; }
.live { font-size: 0.85rem; color: var(--warn); }
.live::before { content: '○ '; }
.live.on { color: var(--good); }
.live.on::before { content: '● '; }
.plain { border: 0; background: none; color: var(--faint); font: inherit; font-size: 0.9rem; cursor: pointer; padding: 0.2rem 0.4rem; }
.plain:hover { color: var(--ink); text-decoration: underline; }
.door { max-width: 34rem; margin: 4rem auto; padding: 1.6rem 1.8rem; }
.door form { display: flex; gap: 0.6rem; }
.door input { flex: 1; }
.keys { display: grid; grid-template-columns: 6rem 1fr; gap: 0.45rem; margin: 0; }
.keys dd { margin: 0; }
kbd { font-family: var(--mono); font-size: 0.85em; border: 1px solid var(--line-strong); border-radius: 3px; padding: 0.05rem 0.35rem; background: var(--band); }
</style>
