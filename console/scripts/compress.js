// Puts compressed forms beside what is built, for the service to send to whoever takes them.
import { readdirSync, readFileSync, writeFileSync } from 'node:fs'
import { dirname, join } from 'node:path'
import { fileURLToPath } from 'node:url'
import { brotliCompressSync, constants, gzipSync } from 'node:zlib'

const built = join(dirname(fileURLToPath(import.meta.url)), '../../src/invio/service/web')
const quality = { params: { [constants.BROTLI_PARAM_QUALITY]: 9 } }

for (const entry of readdirSync(built, { recursive: true, withFileTypes: true })) {
  if (!entry.isFile() || !/\.(js|css|svg)$/.test(entry.name)) continue
  const file = join(entry.parentPath, entry.name)
  const content = readFileSync(file)
  for (const [ending, data] of [
    ['.br', brotliCompressSync(content, quality)],
    ['.gz', gzipSync(content, { level: 9 })],
  ])
    if (data.length < content.length) writeFileSync(file + ending, data)
}
