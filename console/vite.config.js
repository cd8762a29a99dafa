import optimizeLocales from '@react-aria/optimize-locales-plugin'
import react from '@vitejs/plugin-react'
import { defineConfig } from 'vite'

// The service serves what is built here, below /console/ of wherever it is offered itself.
export default defineConfig({
  base: './',
  plugins: [
    react(),
    // Of what the components say by themselves, the languages that there are texts in.
    { ...optimizeLocales.vite({ locales: ['en-US', 'de-DE'] }), enforce: 'pre' },
  ],
  build: { outDir: '../src/invio/service/web', emptyOutDir: true, chunkSizeWarningLimit: 900 },
  server: { proxy: { '/api': 'http://127.0.0.1:8480', '/get': 'http://127.0.0.1:8480' } },
  test: { include: ['src/**/*.test.ts'] },
})
