// How long a large OpenAPI document takes until its tools can be called, over the plain parse of its text in the same run:
//   node bench/document.mjs [document.json]
// Without a file one of 1,200 operations and about 12 MB is made.
import { spawnSync } from 'node:child_process';
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';

const median = (values) => values.toSorted((a, b) => a - b)[values.length >> 1];

function made() {
  const properties = (seed) =>
    Object.fromEntries(
      Array.from({ length: 40 }, (_, index) => [
        `field_${seed}_${index}`,
        { type: 'string', maxLength: 100 + index, description: `What the keeper noted of hive ${seed} on visit ${index}. `.repeat(2) },
      ]),
    );
  const schemas = Object.fromEntries(
    Array.from({ length: 1200 }, (_, index) => [`Record${index}`, { type: 'object', properties: properties(index) }]),
  );
  const paths = Object.fromEntries(
    Array.from({ length: 1200 }, (_, index) => [
      `/hives/{hive}/records-${index}`,
      {
        post: {
          operationId: `save_record_${index}`,
          description: 'Saves a record.',
          parameters: [{ name: 'hive', in: 'path', required: true, schema: { type: 'string' } }],
          requestBody: { content: { 'application/json': { schema: { $ref: `#/components/schemas/Record${index}` } } } },
          responses: {
            200: {
              description: 'saved',
              content: { 'application/json': { schema: { $ref: `#/components/schemas/Record${(index + 1) % 1200}` } } },
            },
          },
        },
      },
    ]),
  );
  return JSON.stringify(
    {
      openapi: '3.1.0',
      info: { title: 'Records', version: '1' },
      servers: [{ url: 'http://127.0.0.1:9' }],
      paths,
      components: { schemas },
    },
    null,
    2,
  );
}

/** In a process of its own: what one has read is not warm for the other. */
const scripts = {
  parse: `const { readFileSync } = await import('node:fs'); const from = performance.now(); globalThis.kept = JSON.parse(readFileSync(file, 'utf8')); done(from, 0);`,
  ready: `const { defineServer, wrapRest } = await import('jexo'); const from = performance.now(); globalThis.kept = defineServer({ name: 'large', version: '1', offers: [wrapRest(file)] }); const found = await kept.catalogue(); done(from, found.tools.size);`,
};
function run(kind, file) {
  const code = `const file = ${JSON.stringify(file)}; const done = (from, tools) => { const ms = performance.now() - from; gc(); console.log(JSON.stringify({ ms, tools, heap: process.memoryUsage().heapUsed, cpu: process.cpuUsage() })); process.exit(); }; ${scripts[kind]}`;
  const cwd = fileURLToPath(new URL('..', import.meta.url));
  const { stdout, stderr, status } = spawnSync(process.execPath, ['--expose-gc', '--input-type=module', '-e', code], {
    cwd,
    encoding: 'utf8',
  });
  if (status !== 0) throw new Error(stderr);
  return JSON.parse(stdout);
}

const folder = mkdtempSync(join(tmpdir(), 'jexo-bench-'));
try {
  const file = process.argv[2] ?? join(folder, 'records.json');
  if (process.argv[2] === undefined) writeFileSync(file, made());
  const bytes = readFileSync(file).length;
  const runs = { parse: [], ready: [] };
  for (let turn = 0; turn < 5; turn++) for (const kind of ['parse', 'ready']) runs[kind].push(run(kind, file));
  const of = (kind, pick) => median(runs[kind].map(pick));
  const cpu = ({ cpu: { user, system } }) => (user + system) / 1000;
  const [parse, ready] = ['parse', 'ready'].map((kind) => of(kind, ({ ms }) => ms));
  console.log(`${(bytes / 1e6).toFixed(1)} MB, ${runs.ready[0].tools} tools`);
  console.log(`parse ${parse.toFixed(0)} ms, ready ${ready.toFixed(0)} ms: ${(ready / parse).toFixed(1)} times`);
  console.log(`processor time of the whole process: ${of('parse', cpu).toFixed(0)} ms and ${of('ready', cpu).toFixed(0)} ms`);
  console.log(`heap kept: ${(of('ready', ({ heap }) => heap) / bytes).toFixed(1)} times the document`);
} finally {
  rmSync(folder, { recursive: true, force: true });
}
