import { createApp } from 'vue'
import { createRouter, createWebHistory } from 'vue-router'
import 'element-plus/dist/index.css'
import './theme.css'
import App from './App.vue'
import BenchScreen from './screens/BenchScreen.vue'
import EnsembleScreen from './screens/EnsembleScreen.vue'
import GatherScreen from './screens/GatherScreen.vue'
import HandOverScreen from './screens/HandOverScreen.vue'
import SessionScreen from './screens/SessionScreen.vue'
import StartScreen from './screens/StartScreen.vue'
import { useBench } from './composables/useBench'
import { useEnsemble } from './composables/useEnsemble'
import { useHunt } from './composables/useHunt'
import { usePlay } from './composables/usePlay'
import { useSession } from './composables/useSession'
import { useViews } from './composables/useViews'

const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', component: StartScreen },
    {
      path: '/session/:id',
      component: SessionScreen,
      children: [
        { path: '', redirect: (to) => `${to.path.replace(/\/$/, '')}/bench` },
        { path: 'gather', component: GatherScreen },
        { path: 'bench', component: BenchScreen },
        { path: 'ensemble', component: EnsembleScreen },
        { path: 'hand-over', component: HandOverScreen },
      ],
    },
    { path: '/:rest(.*)', redirect: '/' },
  ],
})

createApp(App).use(router).mount('#app')

// Browser tests and the bench measure what is really played and when: they reach the monitor through this.
declare global {
  interface Window {
    mivlo: { play: ReturnType<typeof usePlay>; session: ReturnType<typeof useSession>; hunt: ReturnType<typeof useHunt>; bench: ReturnType<typeof useBench>; views: ReturnType<typeof useViews>; ensemble: ReturnType<typeof useEnsemble> }
  }
}
window.mivlo = { play: usePlay(), session: useSession(), hunt: useHunt(), bench: useBench(), views: useViews(), ensemble: useEnsemble() }
