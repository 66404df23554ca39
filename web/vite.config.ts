import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vite'

export default defineConfig({
  plugins: [vue()],
  base: './', // the service says in the page under which path it is
  // The service puts a nonce of its own into each page it hands out.
  html: { cspNonce: '__NONCE__' },
  build: { outDir: '../internal/server/console', emptyOutDir: true, chunkSizeWarningLimit: 1500 },
})
