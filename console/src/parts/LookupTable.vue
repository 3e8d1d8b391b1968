<script setup lang="ts">
// Lookups whose content comes with files: how old each is, and what it holds.
import Dialog from 'primevue/dialog'
import Select from 'primevue/select'
import { computed, ref, watch } from 'vue'
import { lookupContent, lookups as versionsOf, type Lookup } from '../client'
import { useLoad } from '../client/load'
import { ago, many, moment, number, size } from '../words'
import StandIn from './StandIn.vue'

defineProps<{ lookups: Lookup[] }>()

const shown = ref<Lookup>()
const open = computed({ get: () => !!shown.value, set: (is) => is || (shown.value = undefined) })
const version = ref(0)
const versions = useLoad(() => versionsOf(shown.value?.name))
const content = useLoad(() => lookupContent(shown.value?.name ?? '', version.value))
function show(l: Lookup) {
  content.data.value = undefined
  shown.value = l
  version.value = l.version
  void versions.load()
}
watch(version, (v) => v && void content.load())
const choices = computed(() => versions.data.value?.items.map((l) => ({ label: `version ${l.version}, ${moment(l.at)}, ${many(l.rows, 'row')}`, value: l.version })) ?? [])
// A table of a hundred thousand rows is not shown whole.
const most = 500
const lines = computed(() => content.data.value?.content.split('\n') ?? [])
</script>

<template>
  <table class="list lookups">
    <thead>
      <tr><th>Lookup</th><th class="num">Version</th><th>Came</th><th class="num">Rows</th><th class="num">Size</th><th>Delivered by</th><th>With</th></tr>
    </thead>
    <tbody>
      <tr v-for="l in lookups" :key="l.name">
        <td><button class="link" @click="show(l)">{{ l.name }}</button></td>
        <td class="num">{{ number(l.version) }}</td>
        <td class="nowrap">{{ moment(l.at) }} <span class="faint">{{ ago(l.at) }}</span></td>
        <td class="num">{{ number(l.rows) }}</td>
        <td class="num">{{ size(l.size) }}</td>
        <td><RouterLink :to="{ name: 'route', params: { name: l.route } }">{{ l.route }}</RouterLink></td>
        <td><RouterLink v-if="l.pickup" :to="{ name: 'pickup', params: { id: l.pickup } }">pickup {{ l.pickup }}</RouterLink></td>
      </tr>
    </tbody>
  </table>
  <Dialog v-model:visible="open" modal :header="`Lookup ${shown?.name}`" dismissable-mask class="lookup">
    <Select v-model="version" :options="choices" option-label="label" option-value="value" aria-label="Version" size="small" />
    <StandIn v-if="content.problem.value || !content.data.value" :problem="content.problem.value" :loading="content.loading.value" @retry="content.load" />
    <template v-else>
      <pre class="mono">{{ lines.slice(0, most).join('\n') }}</pre>
      <p v-if="lines.length > most" class="faint">The first {{ number(most) }} lines. All of it: <code>ydrion lookups {{ shown?.name }} --content</code></p>
    </template>
  </Dialog>
</template>

<style scoped>
.lookups tr { cursor: default; }
.nowrap { white-space: nowrap; }
.link { border: 0; background: none; padding: 0; font: inherit; color: var(--act); cursor: pointer; }
.link:hover { text-decoration: underline; }
pre { max-height: 60vh; overflow: auto; background: var(--band); padding: 0.7rem 0.9rem; min-width: 30rem; }
</style>
