/**
 * Writes src/api/generated.ts from the OpenAPI document on standard input; with --check only says whether it is
 * stale. `zesty-service openapi | node shapes.js` renews it.
 */

import { readFileSync, writeFileSync } from 'node:fs'
import openapiTS, { astToString } from 'openapi-typescript'

const OUTPUT = new URL('src/api/generated.ts', import.meta.url)
const document = JSON.parse(readFileSync(0, 'utf8'))
// The routes are called by name in client.ts; their shapes are what must not drift.
const shapes = { openapi: document.openapi, info: document.info, paths: {}, components: { schemas: document.components.schemas } }
const tree = await openapiTS(shapes, { alphabetize: true, defaultNonNullable: false, emptyObjectsUnknown: true })
const text = `// Made from the OpenAPI document by shapes.js. Do not edit.\n\n${astToString(tree)}`

if (!process.argv.includes('--check')) writeFileSync(OUTPUT, text)
else if (readFileSync(OUTPUT, 'utf8') !== text) {
  console.error('console/src/api/generated.ts is stale. Run: target/release/zesty-service openapi | node console/shapes.js')
  process.exit(1)
}
