// Puts the page of the API's description, and the package that draws it, beside the console.
import { copyFileSync, mkdirSync, writeFileSync } from 'node:fs'
import { createRequire } from 'node:module'
import { dirname, join } from 'node:path'
import { fileURLToPath } from 'node:url'

const from = dirname(createRequire(import.meta.url).resolve('swagger-ui-dist/package.json'))
const to = join(dirname(fileURLToPath(import.meta.url)), '../../src/invio/service/web/api-docs')

mkdirSync(to, { recursive: true })
for (const name of ['swagger-ui.css', 'swagger-ui-bundle.js']) copyFileSync(join(from, name), join(to, name))

writeFileSync(
  join(to, 'start.js'),
  `SwaggerUIBundle({ url: 'openapi.json', dom_id: '#description', deepLinking: true, validatorUrl: null })\n`,
)
writeFileSync(
  join(to, 'index.html'),
  `<!doctype html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<title>Invio: the API</title>
<link rel="stylesheet" href="./api-docs/swagger-ui.css">
</head>
<body>
<div id="description"></div>
<script src="./api-docs/swagger-ui-bundle.js"></script>
<script src="./api-docs/start.js"></script>
</body>
</html>
`,
)
