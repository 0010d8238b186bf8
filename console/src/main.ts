import '@fontsource-variable/source-sans-3'
import 'vuetify/styles'
import './console.css'

import { createApp } from 'vue'
import { createRouter, createWebHistory } from 'vue-router'

import App from './App.vue'
import InputPage from './pages/InputPage.vue'
import InputsPage from './pages/InputsPage.vue'
import PickPage from './pages/PickPage.vue'
import ReceiptPage from './pages/ReceiptPage.vue'
import VersionsPage from './pages/VersionsPage.vue'
import { vuetify } from './theme'

const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', component: InputsPage },
    { path: '/inputs/:input', component: InputPage, props: true },
    { path: '/inputs/:input/pick', component: PickPage, props: true },
    { path: '/inputs/:input/versions', component: VersionsPage, props: true },
    { path: '/receipts/:receipt', component: ReceiptPage, props: true },
    { path: '/:rest(.*)', redirect: '/' },
  ],
})

createApp(App).use(router).use(vuetify).mount('#app')
