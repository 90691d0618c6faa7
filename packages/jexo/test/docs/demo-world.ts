import { chmodSync, cpSync, mkdirSync, rmSync, symlinkSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import ts from 'typescript';
import { scriptedService } from '../../src/testing.js';
import { cli, cooperative, freshFolder, start } from '../support/command-line.js';
import { listen } from '../support/listen.js';
import { freePort } from '../support/nginx.js';
import { standInBrowser } from '../support/stand-in-browser.js';
import { makeRedis } from '../support/redis-server.js';

export const root = fileURLToPath(new URL('../../../../', import.meta.url));

/** A folder with the files that the documents speak of, the services behind their made-up addresses, and `jexo` as a command. */
export interface DemoWorld {
  /** The folder as it is for the reader of one page. What was read of its files stays in the cache. */
  freshFolder(): string;
  readonly env: Record<string, string>;
  /** What stands in a document, and what it is here: made-up addresses, and ports that other tests use too. */
  readonly places: readonly (readonly [string, string])[];
  close(): Promise<void>;
}

/** Modules of the cooperative are plain JavaScript; these are the parts that are started here. */
interface Startable {
  serveRegistry(options: object): Promise<{ url: string; close(): unknown }>;
  startLedger(options: object): Promise<{ url: string; stop(): unknown }>;
  startLogin(options: object): Promise<{ issuer: string; visit(address: string): Promise<unknown>; stop(): unknown }>;
  startFeed(options: object): Promise<{ url: string; stop(): unknown }>;
  loadScales(place: string, perHive: number): Promise<number>;
}
const part = async (path: string): Promise<Startable> => (await import(join(cooperative, path))) as Startable;

function files(folder: string): void {
  for (const name of ['hives.ts', 'records.ts', 'apiary.ts', 'apiary.requests.yaml', 'registry.openapi.yaml', 'handbook.questions.yaml'])
    cpSync(join(cooperative, name), join(folder, name));
  cpSync(join(cooperative, 'registry.openapi.yaml'), join(folder, 'api.openapi.yaml'));
  cpSync(join(cooperative, 'handbook'), join(folder, 'handbook'), { recursive: true });
  cpSync(join(root, 'docs'), join(folder, 'docs'), { recursive: true, filter: (path) => !path.endsWith('.png') });
  cpSync(join(cooperative, 'ledger/ledger.graphql'), join(folder, 'ledger.graphql'));
  cpSync(join(cooperative, 'ledger/operations'), join(folder, 'operations'), { recursive: true });
  cpSync(join(cooperative, 'scales/queries'), join(folder, 'queries'), { recursive: true });
  mkdirSync(join(folder, 'node_modules/some-package'), { recursive: true });
  symlinkSync(join(root, 'packages/jexo'), join(folder, 'node_modules/jexo'));
  symlinkSync(join(root, 'node_modules/zod'), join(folder, 'node_modules/zod'));
  writeFileSync(
    join(folder, 'package.json'),
    '{ "name": "bees", "version": "1.0.0", "type": "module", "dependencies": { "ledger-files": "*" } }\n',
  );
  cpSync(join(cooperative, 'hive-weight.ts'), join(folder, 'server.ts'));
  cpSync(join(cooperative, 'views'), join(folder, 'views'), { recursive: true });
  // Compiled, with its declarations.
  const compiled = { outDir: join(folder, 'dist'), declaration: true, target: ts.ScriptTarget.ES2022, module: ts.ModuleKind.ESNext };
  ts.createProgram([join(folder, 'hives.ts')], compiled).emit();
  // The package of docs/extending.md; its package.json is the page's own.
  mkdirSync(join(folder, 'node_modules/ledger-files'));
  writeFileSync(
    join(folder, 'node_modules/ledger-files/kinds.mjs'),
    `import { defineServer, resource } from 'jexo';
export default {
  kind: 'ledger', noun: 'a ledger', example: 'honey.ledger', about: 'lots of honey', matches: (text) => text.endsWith('.ledger'),
  open: (file) => ({ server: defineServer({ name: 'ledger', version: '1.0.0', offers: [resource('ledger://lots', { name: 'lots' }, () => 'H-204')] }), files: [file] }),
};\n`,
  );
  writeFileSync(join(folder, 'honey.ledger'), 'H-204\n');
  writeFileSync(join(folder, 'apiary.jexo.yaml'), 'name: apiary\nversion: 1.0.0\noffers:\n  - functions: ./hives.ts\n');
  const stats = join(folder, 'node_modules/some-package');
  writeFileSync(
    join(stats, 'package.json'),
    '{ "name": "some-package", "version": "2.0.0", "type": "module", "main": "index.js", "types": "index.d.ts" }',
  );
  const sum = 'values.reduce((a, b) => a + b, 0)';
  writeFileSync(
    join(stats, 'index.js'),
    `export const mean = (values) => ${sum} / values.length;\nexport const median = (values) => values.toSorted((a, b) => a - b)[values.length >> 1];\n`,
  );
  writeFileSync(
    join(stats, 'index.d.ts'),
    `/** The mean of numbers. */\nexport declare function mean(values: number[]): number;\n/** The one in the middle. */\nexport declare function median(values: number[]): number;\n`,
  );
  writeFileSync(
    join(folder, 'server.mjs'),
    `import { defineServer, serveStdio, tool } from 'jexo';\nserveStdio(defineServer({ name: 'lab', version: '1.0.0', offers: [tool('results_list', { description: 'Results of the lab, the newest first. Use it for pollen and water.' }, () => 'LM-07: clean')] }));\n`,
  );
  writeFileSync(join(folder, 'switches.json'), '{ "except": ["move_hive"] }\n');
  writeFileSync(join(folder, 'chat.rules.yaml'), 'allow: [read-only]\n');
}

/** Asks for syrup, and says what it was told. */
const model = scriptedService(({ messages, tools = [] }) => {
  const name = tools.find((each) => each.function.name.endsWith('mix_syrup'))?.function.name;
  if (name === undefined || messages.some(({ role }) => role === 'tool')) return { text: 'That is all.' };
  return { calls: [{ name, arguments: { colonies: 12, season: 'autumn' } }] };
});

export async function demoWorld(): Promise<DemoWorld> {
  const folder = freshFolder('documents');
  const open: (() => unknown)[] = [];
  files(folder);
  const registry = await (await part('registry.mjs')).serveRegistry({ port: 0, token: 'beeswax' });
  const ledger = await (await part('ledger/server.mjs')).startLedger({ port: 0 });
  const login = await (await part('login.mjs')).startLogin({});
  const feed = await (await part('feed.mjs')).startFeed({ everyMs: 100, print: () => undefined });
  const redis = await makeRedis();
  await (await part('scales/load.mjs')).loadScales(join(folder, 'scales.sqlite'), 40);
  const chat = await listen(model);
  const person = await standInBrowser(join(folder, 'node_modules/browser.mjs'), (address) => login.visit(address));
  open.push(
    () => registry.close(),
    () => ledger.stop(),
    () => login.stop(),
    () => feed.stop(),
    () => redis.stop(),
    () => chat.close(),
    person.stop,
  );
  const served = async (words: readonly string[]) => {
    const running = await start(['serve', '--json', ...words], { cwd: folder });
    open.push(() => running.stop());
    return String(running.said.address);
  };
  const lab = await served(['--http', '0', '--', 'node', 'server.mjs']);
  const other = await served(['hives.ts', '--http', '0']);
  const apiaryPort = await freePort();
  const signedIn = await served(['apiary.ts', '--http', String(apiaryPort), '--issuer', login.issuer, '--scope', 'hives:read']);
  writeFileSync(
    join(folder, 'hosts.json'),
    JSON.stringify({
      servers: {
        lab: { url: lab },
        registry: {
          command: process.execPath,
          args: [cli, 'serve', join(folder, 'registry.openapi.yaml'), '--base-url', registry.url],
          env: { REGISTRY_TOKEN: 'beeswax' },
        },
      },
    }),
  );
  const ports = await Promise.all([4300, 4301, 4400, 4401, 9300].map(async (port) => [String(port), String(await freePort())] as const));
  const bin = join(folder, 'node_modules/.bin');
  mkdirSync(bin);
  for (const [name, text] of [
    ['jexo', `exec ${process.execPath} ${cli} "$@"`],
    ['npx', `[ "$1" = jexo ] || exec ${join(process.execPath, '../npx')} "$@"; shift; exec jexo "$@"`],
  ] as const) {
    writeFileSync(join(bin, name), `#!/bin/sh\n${text}\n`);
    chmodSync(join(bin, name), 0o755);
  }
  return {
    freshFolder() {
      const own = `${folder}-of-a-page`;
      rmSync(own, { recursive: true, force: true });
      cpSync(folder, own, { recursive: true, verbatimSymlinks: true });
      return own;
    },
    env: {
      PATH: `${bin}:${process.env.PATH}`,
      NO_COLOR: '1',
      BROWSER: person.file,
      JEXO_CACHE: join(folder, 'cache'),
      JEXO_SIGN_INS: join(folder, 'kept/sign-ins.json'),
      SCALES_DB: './scales.sqlite',
      REGISTRY_URL: registry.url,
      REGISTRY_TOKEN: 'beeswax',
      KEY: 'none',
    },
    places: [
      ['https://apiary.example/mcp', signedIn],
      ['https://lab.example/mcp', lab],
      ['https://hives.example/mcp', other],
      ['https://ledger.example/graphql', ledger.url],
      ['query_ledger', 'query_graphql'], // named by the address
      ['curl https://… -H …', `curl ${registry.url}/hives -H "Authorization: Bearer beeswax"`],
      ['https://registry.example', registry.url],
      ['https://login.example', login.issuer],
      ['http://127.0.0.1:8080', chat.url],
      ['mqtt://127.0.0.1', feed.url],
      ['redis://127.0.0.1:6379', redis.url],
      ...ports,
    ],
    async close() {
      for (const close of open.reverse()) await close();
    },
  };
}
