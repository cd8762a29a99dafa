import optimizeLocales from '@react-aria/optimize-locales-plugin'
import react from '@vitejs/plugin-react'
import { createRequire } from 'node:module'
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

/**
 * React is a CommonJS module, of which a bundle reads each function through a getter, at each call: a twentieth of what
 * a table takes to be drawn. Here its functions are constants.
 */
const PLAIN = '\0plain-react'
const plainReact = {
  name: 'plain-react',
  apply: 'build',
  enforce: 'pre',
  resolveId(id, importer, { kind }) {
    if (id === 'react' && importer !== PLAIN && kind !== 'require-call') return PLAIN
  },
  load(id) {
    if (id !== PLAIN) return
    const names = Object.keys(createRequire(import.meta.url)('react')).join(', ')
    return `import react from 'react'\nexport default react\nexport const { ${names} } = react`
  },
}

// The service serves what is built here, below /console/ of wherever it is offered itself.
export default defineConfig({
  base: './',
  plugins: [
    react(),
    quietTables,
    plainReact,
    // Of what the components say by themselves, the languages that there are texts in.
    { ...optimizeLocales.vite({ locales: ['en-US', 'de-DE'] }), enforce: 'pre' },
  ],
  build: { outDir: '../src/invio/service/web', emptyOutDir: true, chunkSizeWarningLimit: 900 },
  server: { proxy: { '/api': 'http://127.0.0.1:8480', '/get': 'http://127.0.0.1:8480' } },
  test: { include: ['src/**/*.test.ts'] },
})
