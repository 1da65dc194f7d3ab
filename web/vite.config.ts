import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vite'

/** Where the API is while Vite serves the page: `./mivlo dev` says so. */
const api = process.env['MIVLO_API'] ?? 'http://127.0.0.1:8767'

export default defineConfig({
  plugins: [vue()],
  worker: { format: 'es' },
  build: { target: 'es2022', chunkSizeWarningLimit: 1500 },
  server: { proxy: { '/api': { target: api, ws: true, changeOrigin: true } } },
})
