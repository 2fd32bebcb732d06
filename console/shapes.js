/**
 * Writes src/api/generated.ts from the OpenAPI document on standard input; with --check only says whether it is
 * stale. `zesty-service openapi | node shapes.js` renews it. It holds the shapes that src/api/shapes.ts names, and
 * those that they consist of, without their comments: those stand in crates/wire.
 */

import { readFileSync, writeFileSync } from 'node:fs'
import { json } from 'node:stream/consumers'
import openapiTS, { astToString } from 'openapi-typescript'

const OUTPUT = new URL('src/api/generated.ts', import.meta.url)
const NAMES = new URL('src/api/shapes.ts', import.meta.url)

const document = await json(process.stdin)
const every = document.components.schemas
const wanted = new Set()
const want = (name) => {
  if (!every[name]) throw new Error(`src/api/shapes.ts names ${name}, and the OpenAPI document has no such schema`)
  if (wanted.has(name)) return
  wanted.add(name)
  for (const [, part] of JSON.stringify(every[name]).matchAll(/"#\/components\/schemas\/(\w+)"/g)) want(part)
}
for (const [, name] of readFileSync(NAMES, 'utf8').matchAll(/Shapes\['(\w+)'\]/g)) want(name)

// The routes are called by name in client.ts; their shapes are what must not drift.
const schemas = Object.fromEntries(Object.entries(every).filter(([name]) => wanted.has(name)))
const shapes = { openapi: document.openapi, info: document.info, paths: {}, components: { schemas } }
const tree = await openapiTS(shapes, { alphabetize: true, defaultNonNullable: false, emptyObjectsUnknown: true })
const text = `// Made from the OpenAPI document by shapes.js. Do not edit.\n\n${astToString(tree, { formatOptions: { removeComments: true } })}`

if (!process.argv.includes('--check')) writeFileSync(OUTPUT, text)
else if (readFileSync(OUTPUT, 'utf8') !== text) {
  console.error('console/src/api/generated.ts is stale. Run: target/quick/zesty-service openapi | node console/shapes.js')
  process.exit(1)
}
