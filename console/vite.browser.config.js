import { fileURLToPath } from 'node:url'
import { defineConfig } from 'vite'

// The module for other people's pages, built into one file beside the console.
export default defineConfig({
  root: fileURLToPath(new URL('../browser', import.meta.url)),
  build: {
    outDir: '../src/invio/service/web/browser',
    emptyOutDir: true,
    target: 'es2022',
    lib: { entry: 'src/invio.ts', formats: ['es'], fileName: () => 'invio.js' },
  },
})
