import { createRouter, createWebHistory } from 'vue-router'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', component: () => import('./pages/CollectionsPage.vue'), meta: { title: 'Collections' } },
    { path: '/c/:name', component: () => import('./pages/CollectionPage.vue'), props: true, meta: { title: 'Collection' } },
    { path: '/load', component: () => import('./pages/LoadPage.vue'), meta: { title: 'Load' } },
    { path: '/c/:name/load', component: () => import('./pages/LoadPage.vue'), props: true, meta: { title: 'Load' } },
    { path: '/c/:name/records', component: () => import('./pages/RecordsPage.vue'), props: true, meta: { title: 'Records' } },
    { path: '/c/:name/fields', component: () => import('./pages/FieldsPage.vue'), props: true, meta: { title: 'Fields' } },
    { path: '/c/:name/indexes', component: () => import('./pages/IndexesPage.vue'), props: true, meta: { title: 'Indexes' } },
    { path: '/c/:name/search', component: () => import('./pages/SearchPage.vue'), props: true, meta: { title: 'Search' } },
    { path: '/c/:name/tuning', component: () => import('./pages/TuningPage.vue'), props: true, meta: { title: 'Tuning' } },
    { path: '/reference', component: () => import('./pages/ReferencePage.vue'), meta: { title: 'API reference' } },
    { path: '/:rest(.*)*', component: () => import('./pages/LostPage.vue'), meta: { title: 'No such page' } },
  ],
})

router.afterEach((to) => {
  const of = typeof to.params.name === 'string' ? ` · ${to.params.name}` : ''
  document.title = `${to.meta.title}${of} · Zesty Lantern`
})
