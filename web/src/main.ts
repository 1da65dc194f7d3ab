import { createApp } from 'vue'
import { createRouter, createWebHistory } from 'vue-router'
import 'element-plus/dist/index.css'
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
        { path: 'bench', component: () => import('./screens/BenchScreen.vue') },
        { path: 'ensemble', component: () => import('./screens/EnsembleScreen.vue') },
        { path: 'hand-over', component: () => import('./screens/HandOverScreen.vue') },
      ],
    },
    { path: '/:rest(.*)', redirect: '/' },
  ],
})

createApp(App).use(router).mount('#app')
