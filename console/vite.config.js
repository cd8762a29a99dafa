import optimizeLocales from '@react-aria/optimize-locales-plugin'
import react from '@vitejs/plugin-react'
import { defineConfig } from 'vite'

/**
 * A table says how rows are selected by touch only where selecting replaces what was selected, which no table here
 * does. To know it, it is drawn again whenever one turns from the mouse to the keyboard: at the first letter typed.
 */
const quietTables = {
  name: 'quiet-tables',
  enforce: 'pre',
  load(id) {
    if (id.endsWith('/grid/useHighlightSelectionDescription.mjs'))
      return 'export const useHighlightSelectionDescription = () => ({})'
  },
}

// The service serves what is built here, below /console/ of wherever it is offered itself.
export default defineConfig({
  base: './',
  plugins: [
    react(),
    quietTables,
    // Of what the components say by themselves, the languages that there are texts in.
    { ...optimizeLocales.vite({ locales: ['en-US', 'de-DE'] }), enforce: 'pre' },
  ],
  build: { outDir: '../src/invio/service/web', emptyOutDir: true, chunkSizeWarningLimit: 900 },
  server: { proxy: { '/api': 'http://127.0.0.1:8480', '/get': 'http://127.0.0.1:8480' } },
  test: { include: ['src/**/*.test.ts'] },
})
