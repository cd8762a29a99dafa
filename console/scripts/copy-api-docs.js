// Puts the page of the API's description, and the package that draws it, beside the console.
import { copyFileSync, mkdirSync, writeFileSync } from 'node:fs'
import { createRequire } from 'node:module'
import { dirname, join } from 'node:path'
import { fileURLToPath } from 'node:url'

const from = dirname(createRequire(import.meta.url).resolve('swagger-ui-dist/package.json'))
const to = join(dirname(fileURLToPath(import.meta.url)), '../../src/invio/service/web/api-docs')

mkdirSync(to, { recursive: true })
for (const name of ['swagger-ui.css', 'swagger-ui-bundle.js']) copyFileSync(join(from, name), join(to, name))

// What the package leaves to be wished for: landmarks, headings, links within buttons, and contrasts below 4.5.
writeFileSync(
  join(to, 'start.js'),
  `const marks = ({ React: { createElement, Fragment } }) => ({
  components: { DeepLink: ({ text, children }) => createElement('span', null, text ?? children) },
  wrapComponents: {
    InfoContainer: (Original) => (props) => createElement('header', { role: 'banner' }, createElement(Original, props)),
    operations: (Original) => (props) =>
      createElement(Fragment, null, createElement('h2', { className: 'own-heading' }, 'Operations'), createElement(Original, props)),
  },
})
SwaggerUIBundle({
  url: 'openapi.json',
  dom_id: '#description',
  deepLinking: true,
  validatorUrl: null,
  plugins: [marks],
})
`,
)
writeFileSync(
  join(to, 'own.css'),
  `.own-heading { margin: 1.2rem auto 0; max-width: 1460px; padding: 0 20px; font: 600 1.55rem/1.25 Georgia, serif; }
.swagger-ui .opblock .opblock-summary-method, .swagger-ui .info .title small,
.swagger-ui .info .title small.version-stamp { background: #33414b; }
.swagger-ui .opblock.opblock-get .opblock-summary-method { background: #0b5f6b; }
.swagger-ui .opblock.opblock-post .opblock-summary-method { background: #2c6a3e; }
.swagger-ui .opblock.opblock-put .opblock-summary-method,
.swagger-ui .opblock.opblock-patch .opblock-summary-method { background: #835400; }
.swagger-ui .opblock.opblock-delete .opblock-summary-method { background: #9a2c27; }
.swagger-ui .info .link .url { color: #0b5f6b; }
.swagger-ui .btn.authorize, .swagger-ui .btn.authorize span { border-color: #2c6a3e; color: #2c6a3e; }
.swagger-ui .json-schema-2020-12-expand-deep-button { color: #33414b; }
`,
)
writeFileSync(
  join(to, 'index.html'),
  `<!doctype html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<title>Invio: the API</title>
<link rel="icon" href="./mark.svg" type="image/svg+xml">
<link rel="stylesheet" href="./api-docs/swagger-ui.css">
<link rel="stylesheet" href="./api-docs/own.css">
</head>
<body>
<div id="description"></div>
<script src="./api-docs/swagger-ui-bundle.js"></script>
<script src="./api-docs/start.js"></script>
</body>
</html>
`,
)
