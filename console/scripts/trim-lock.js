// Takes addresses out of the lock file; with --check, says whether it holds any.
import { readFileSync, writeFileSync } from 'node:fs'

const file = new URL('../package-lock.json', import.meta.url)
const lock = JSON.parse(readFileSync(file, 'utf8'))
for (const entry of Object.values(lock.packages)) {
  delete entry.funding
  delete entry.resolved
}
const trimmed = JSON.stringify(lock, null, 2) + '\n'
if (!process.argv.includes('--check')) writeFileSync(file, trimmed)
else if (readFileSync(file, 'utf8') !== trimmed || trimmed.includes('://')) {
  console.error('package-lock.json holds addresses; run: node scripts/trim-lock.js')
  process.exit(1)
}
