import { createApp } from 'vue'
import { createRouter, createWebHistory } from 'vue-router'
import 'element-plus/es/components/button/style/css'
import 'element-plus/es/components/checkbox/style/css'
import 'element-plus/es/components/checkbox-group/style/css'
import 'element-plus/es/components/input/style/css'
import 'element-plus/es/components/option/style/css'
import 'element-plus/es/components/progress/style/css'
import 'element-plus/es/components/radio-button/style/css'
import 'element-plus/es/components/radio-group/style/css'
import 'element-plus/es/components/select/style/css'
import 'element-plus/es/components/switch/style/css'
import './theme.css'
import App from './App.vue'

// Screens are loaded when they are opened.
const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', component: () => import('./screens/StartScreen.vue') },
    {
      path: '/session/:id',
      component: () => import('./screens/SessionScreen.vue'),
      children: [
        { path: '', redirect: (to) => `${to.path.replace(/\/$/, '')}/bench` },
        { path: 'gather', component: () => import('./screens/GatherScreen.vue') },
        { path: 'round', component: () => import('./screens/RoundScreen.vue') },
        { path: 'bench', component: () => import('./screens/BenchScreen.vue') },
        { path: 'ensemble', component: () => import('./screens/EnsembleScreen.vue') },
        { path: 'proof', component: () => import('./screens/ProofScreen.vue') },
        { path: 'hand-over', component: () => import('./screens/HandOverScreen.vue') },
      ],
    },
    { path: '/:rest(.*)', redirect: '/' },
  ],
})

createApp(App).use(router).mount('#app')
