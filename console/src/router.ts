import { createRouter, createWebHistory } from 'vue-router'
import { page } from './tab'
import { asked } from './parts/way'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', name: 'Overview', component: () => import('./pages/overview/Overview.vue') },
    { path: '/describe', name: 'Definitions', component: () => import('./pages/describe/Describe.vue') },
    { path: '/sources', name: 'Sources', component: () => import('./pages/sources/Sources.vue') },
    {
      path: '/sources/:name',
      name: 'Source',
      component: () => import('./pages/source/Source.vue'),
      props: true,
    },
    { path: '/keys', name: 'Keys', component: () => import('./pages/keys/Keys.vue') },
    { path: '/keys/:fingerprint', name: 'Key', component: () => import('./pages/key/Key.vue'), props: true },
    {
      path: '/credentials',
      name: 'Credentials',
      component: () => import('./pages/credentials/Credentials.vue'),
    },
    { path: '/mirrors', name: 'Mirrors', component: () => import('./pages/mirrors/Mirrors.vue') },
    {
      path: '/mirrors/:name',
      name: 'Mirror',
      component: () => import('./pages/mirror/Mirror.vue'),
      props: true,
    },
    {
      path: '/editions/:mirror/:number',
      name: 'Edition',
      component: () => import('./pages/edition/Edition.vue'),
      props: true,
    },
    { path: '/lanes', name: 'Lanes', component: () => import('./pages/lanes/Lanes.vue') },
    { path: '/packages', name: 'Packages', component: () => import('./pages/packages/Packages.vue') },
    { path: '/machines', name: 'Machines', component: () => import('./pages/machines/Machines.vue') },
    {
      path: '/machines/:name',
      name: 'Machine',
      component: () => import('./pages/machine/Machine.vue'),
      props: true,
    },
    { path: '/storage', name: 'Storage', component: () => import('./pages/storage/Storage.vue') },
    { path: '/jobs', name: 'Jobs', component: () => import('./pages/jobs/Jobs.vue') },
    { path: '/journal', name: 'Journal', component: () => import('./pages/journal/Journal.vue') },
    { path: '/accounts', name: 'Accounts', component: () => import('./pages/accounts/Accounts.vue') },
    {
      path: '/accounts/:name',
      name: 'Account',
      component: () => import('./pages/accounts/Account.vue'),
      props: true,
    },
    { path: '/:rest(.*)', name: 'Nowhere', component: () => import('./pages/nowhere/Nowhere.vue') },
  ],
})
router.afterEach((to) => {
  asked.value = null // what was asked about stood on the page before
  const edition = to.params.mirror ? `${to.params.mirror}/${to.params.number}` : ''
  page.value = String(to.params.name ?? (edition || String(to.name)))
})
