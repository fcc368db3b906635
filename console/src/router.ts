import { createRouter, createWebHistory } from 'vue-router'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', name: 'Overview', component: () => import('./pages/Overview.vue') },
    { path: '/sources', name: 'Sources', component: () => import('./pages/Sources.vue') },
    { path: '/sources/:name', name: 'Source', component: () => import('./pages/Source.vue'), props: true },
    { path: '/keys', name: 'Keys', component: () => import('./pages/Keys.vue') },
    { path: '/keys/:fingerprint', name: 'Key', component: () => import('./pages/Key.vue'), props: true },
    { path: '/mirrors', name: 'Mirrors', component: () => import('./pages/Mirrors.vue') },
    { path: '/mirrors/:name', name: 'Mirror', component: () => import('./pages/Mirror.vue'), props: true },
    {
      path: '/editions/:mirror/:number',
      name: 'Edition',
      component: () => import('./pages/Edition.vue'),
      props: true,
    },
    { path: '/lanes', name: 'Lanes', component: () => import('./pages/Lanes.vue') },
    { path: '/machines', name: 'Machines', component: () => import('./pages/Machines.vue') },
    { path: '/jobs', name: 'Jobs', component: () => import('./pages/Jobs.vue') },
    { path: '/journal', name: 'Journal', component: () => import('./pages/Journal.vue') },
    { path: '/:rest(.*)', name: 'Nowhere', component: () => import('./pages/Nowhere.vue') },
  ],
})
router.afterEach((to) => {
  document.title = `${to.params.name ?? (to.params.mirror ? `${to.params.mirror}/${to.params.number}` : String(to.name))} · Stockade`
})
