import { createRouter, createWebHistory } from 'vue-router'
import AttentionPage from './pages/attention/AttentionPage.vue'
import OverviewPage from './pages/overview/OverviewPage.vue'
import PickupPage from './pages/pickup/PickupPage.vue'
import PickupsPage from './pages/pickups/PickupsPage.vue'
import PlacesPage from './pages/places/PlacesPage.vue'
import RecordsPage from './pages/records/RecordsPage.vue'
import RoutePage from './pages/route/RoutePage.vue'
import RoutesPage from './pages/routes/RoutesPage.vue'
import SamplesPage from './pages/samples/SamplesPage.vue'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', name: 'overview', component: OverviewPage, meta: { title: 'Overview' } },
    { path: '/attention', name: 'attention', component: AttentionPage, meta: { title: 'Attention' } },
    { path: '/routes', name: 'routes', component: RoutesPage, meta: { title: 'Routes' } },
    { path: '/routes/:name', name: 'route', component: RoutePage, props: true, meta: { title: 'Route' } },
    { path: '/records', name: 'records', component: RecordsPage, meta: { title: 'Records' } },
    { path: '/places', name: 'places', component: PlacesPage, meta: { title: 'Places' } },
    { path: '/samples', name: 'samples', component: SamplesPage, meta: { title: 'Samples' } },
    { path: '/pickups', name: 'pickups', component: PickupsPage, meta: { title: 'Pickups' } },
    { path: '/pickups/:id(\\d+)', name: 'pickup', component: PickupPage, props: (r) => ({ id: Number(r.params.id) }), meta: { title: 'Pickup' } },
    { path: '/:rest(.*)*', redirect: '/' },
  ],
})

router.afterEach((to) => {
  const what = to.params.name ?? to.params.id
  document.title = `${to.meta.title as string}${what ? ` ${String(what)}` : ''} · Ydrion`
})
