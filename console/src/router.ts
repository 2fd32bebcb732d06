import { createRouter, createWebHistory } from 'vue-router'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', component: () => import('./pages/CollectionsPage.vue'), meta: { title: 'Collections' } },
    { path: '/load', component: () => import('./pages/LoadPage.vue'), meta: { title: 'Load' } },
    {
      path: '/c/:name',
      component: () => import('./pages/CollectionFrame.vue'),
      props: true,
      children: [
        { path: '', component: () => import('./pages/CollectionPage.vue'), meta: { title: 'Collection' } },
        { path: 'load', component: () => import('./pages/LoadIntoPage.vue'), meta: { title: 'Load' } },
        { path: 'records', component: () => import('./pages/RecordsPage.vue'), meta: { title: 'Records' } },
        { path: 'fields', component: () => import('./pages/FieldsPage.vue'), meta: { title: 'Fields' } },
        { path: 'indexes', component: () => import('./pages/IndexesPage.vue'), meta: { title: 'Indexes' } },
        { path: 'search', component: () => import('./pages/SearchPage.vue'), meta: { title: 'Search' } },
        { path: 'saved', component: () => import('./pages/SavedPage.vue'), meta: { title: 'Saved searches' } },
        { path: 'saved/:saved', component: () => import('./pages/SavedSearchPage.vue'), props: true, meta: { title: 'Saved search' } },
        { path: 'queries', component: () => import('./pages/QueriesPage.vue'), meta: { title: 'Query sets' } },
        { path: 'watch', component: () => import('./pages/WatchPage.vue'), meta: { title: 'Watch' } },
        { path: 'lens', component: () => import('./pages/LensPage.vue'), meta: { title: 'Lens' } },
        { path: 'advice', component: () => import('./pages/AdvicePage.vue'), meta: { title: 'Advice' } },
        { path: 'compare', component: () => import('./pages/ComparePage.vue'), meta: { title: 'Compare' } },
        { path: 'comparisons/:comparison', component: () => import('./pages/ComparisonPage.vue'), meta: { title: 'Comparison' } },
        { path: 'map', component: () => import('./pages/MapPage.vue'), meta: { title: 'Map' } },
        { path: 'sweeps/:sweep', component: () => import('./pages/SweepPage.vue'), meta: { title: 'Sweep' } },
        { path: 'targets/:target', component: () => import('./pages/TargetPage.vue'), meta: { title: 'Target' } },
        { path: 'tuning', component: () => import('./pages/TuningPage.vue'), meta: { title: 'Tuning' } },
      ],
    },
    { path: '/pulse', component: () => import('./pages/PulsePage.vue'), meta: { title: 'Pulse' } },
    { path: '/keys', component: () => import('./pages/KeysPage.vue'), meta: { title: 'Keys' } },
    { path: '/reference', component: () => import('./pages/ReferencePage.vue'), meta: { title: 'API reference' } },
    { path: '/:rest(.*)*', component: () => import('./pages/LostPage.vue'), meta: { title: 'No such page' } },
  ],
})

router.afterEach((to) => {
  const of = typeof to.params.name === 'string' ? ` · ${to.params.name}` : ''
  document.title = `${String(to.meta.title)}${of} · Zesty Lantern`
})
