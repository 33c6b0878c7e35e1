import { fileURLToPath } from 'node:url'

import tailwindcss from '@tailwindcss/vite'
import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vite'

const hub = process.env.KUPPEL_DEV_HUB ?? 'http://127.0.0.1:8470'

export default defineConfig({
  plugins: [vue(), tailwindcss()],
  resolve: { alias: { '@': fileURLToPath(new URL('./src', import.meta.url)) } },
  server: { port: 8480, strictPort: true, proxy: { '/api': hub } },
  // The world's coasts are one chunk of half a megabyte, which only a map without a layer of its own asks for.
  build: { target: 'es2022', chunkSizeWarningLimit: 700 },
})
