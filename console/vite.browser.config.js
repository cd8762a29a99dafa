import { fileURLToPath } from 'node:url'
import { defineConfig } from 'vite'

// The module for other people's pages, built into one file beside the console.
export default defineConfig({
  root: fileURLToPath(new URL('../browser', import.meta.url)),
  build: {
    outDir: '../src/invio/service/web/browser',
    emptyOutDir: true,
    target: 'es2022',
    // One file each: what the page of a link needs of the module it loads from beside it.
    rollupOptions: { external: ['./invio.js'] },
    lib: {
      entry: { invio: 'src/invio.ts', start: 'src/start.ts', countdown: 'src/countdown.ts' },
      formats: ['es'],
      fileName: (_, name) => `${name}.js`,
    },
  },
})
