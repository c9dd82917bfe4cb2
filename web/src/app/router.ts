import { createRouter, createWebHistory } from 'vue-router'
import ComparePage from '../pages/ComparePage.vue'
import LedgerPage from '../pages/LedgerPage.vue'
import OverPage from '../pages/OverPage.vue'
import ProgramsPage from '../pages/ProgramsPage.vue'
import TakePage from '../pages/TakePage.vue'
import TakesPage from '../pages/TakesPage.vue'
import EnterPage from '../pages/EnterPage.vue'
import MachinesPage from '../pages/MachinesPage.vue'
import NewTakePage from '../pages/NewTakePage.vue'
import RunningPage from '../pages/RunningPage.vue'
import PeoplePage from '../pages/PeoplePage.vue'
import SignInPage from '../pages/SignInPage.vue'
import YouPage from '../pages/YouPage.vue'
import NowherePage from '../pages/NowherePage.vue'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', redirect: '/programs' },
    { path: '/programs', name: 'programs', component: ProgramsPage },
    { path: '/programs/:name', name: 'ledger', component: LedgerPage },
    { path: '/programs/:name/function', name: 'over', component: OverPage },
    { path: '/takes', name: 'takes', component: TakesPage },
    { path: '/takes/:key', name: 'take', component: TakePage },
    { path: '/compare', name: 'compare', component: ComparePage },
    { path: '/new', name: 'new', component: NewTakePage },
    { path: '/running/:id', name: 'running', component: RunningPage },
    { path: '/machines', name: 'machines', component: MachinesPage },
    { path: '/sign-in', name: 'sign-in', component: SignInPage, meta: { open: true } },
    { path: '/enter/:link', name: 'enter', component: EnterPage, meta: { open: true } },
    { path: '/you', name: 'you', component: YouPage },
    { path: '/people', name: 'people', component: PeoplePage },
    { path: '/:rest(.*)*', name: 'nowhere', component: NowherePage },
  ],
})
