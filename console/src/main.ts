import '@fontsource-variable/source-sans-3'
import 'vuetify/styles'
import './console.css'

import { createApp } from 'vue'
import { createRouter, createWebHistory } from 'vue-router'

import App from './App.vue'
import CoveragePage from './pages/CoveragePage.vue'
import InputPage from './pages/InputPage.vue'
import InputsPage from './pages/InputsPage.vue'
import LogPage from './pages/LogPage.vue'
import NoticesPage from './pages/NoticesPage.vue'
import PickPage from './pages/PickPage.vue'
import PlacesPage from './pages/PlacesPage.vue'
import ReadPage from './pages/ReadPage.vue'
import ReceiptPage from './pages/ReceiptPage.vue'
import RefreshPage from './pages/RefreshPage.vue'
import RefreshesPage from './pages/RefreshesPage.vue'
import RefreshingPage from './pages/RefreshingPage.vue'
import SettingsPage from './pages/SettingsPage.vue'
import StoryPage from './pages/StoryPage.vue'
import SummaryPage from './pages/SummaryPage.vue'
import TablePage from './pages/TablePage.vue'
import TodayPage from './pages/TodayPage.vue'
import VersionsPage from './pages/VersionsPage.vue'
import { vuetify } from './theme'

const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', component: TodayPage },
    { path: '/inputs', component: InputsPage },
    { path: '/places', component: PlacesPage },
    { path: '/notices', component: NoticesPage },
    { path: '/refreshes', component: RefreshesPage },
    { path: '/refreshes/:refresh', component: RefreshPage, props: true },
    { path: '/settings', component: SettingsPage },
    { path: '/inputs/:input', component: InputPage, props: true },
    { path: '/inputs/:input/pick', component: PickPage, props: true },
    { path: '/inputs/:input/read', component: ReadPage, props: true },
    { path: '/inputs/:input/refreshing', component: RefreshingPage, props: true },
    { path: '/inputs/:input/summary', component: SummaryPage, props: true },
    { path: '/inputs/:input/table', component: TablePage, props: true },
    { path: '/inputs/:input/versions', component: VersionsPage, props: true },
    { path: '/inputs/:input/coverage', component: CoveragePage, props: true },
    { path: '/inputs/:input/log', component: LogPage, props: true },
    { path: '/inputs/:input/story', component: StoryPage, props: true },
    { path: '/receipts/:receipt', component: ReceiptPage, props: true },
    { path: '/:rest(.*)', redirect: '/' },
  ],
})

createApp(App).use(router).use(vuetify).mount('#app')
