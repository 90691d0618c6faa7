import { spawn, spawnSync } from 'node:child_process';
import { createHash, generateKeyPairSync, verify } from 'node:crypto';
import { chmodSync, cpSync, existsSync, mkdirSync, readdirSync, readFileSync, statSync, writeFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { EdgeVM } from '@edge-runtime/vm';
import { validate } from 'dockerfile-utils';
import { publint } from 'publint';
import ts from 'typescript';
import { parse, parseAllDocuments } from 'yaml';
import { connect } from '../support/connect.js';
import { cooperative, freshFolder, hives, jexo, run } from '../support/command-line.js';
import { freePort, startNginx, withNginx } from '../support/nginx.js';

interface Packed {
  readonly out: string;
  readonly files: readonly { readonly path: string; readonly bytes: number }[];
  readonly tried: boolean;
  readonly next: readonly string[];
}
async function pack(as: string, targets: readonly string[] = [hives], ...words: string[]): Promise<Packed> {
  const out = join(freshFolder(`pack-${as}`), 'out');
  const { code, stdout, stderr } = await jexo(['pack', ...targets, '--as', as, '--out', out, ...words, '--json']);
  if (code !== 0) throw new Error(stderr);
  return JSON.parse(stdout) as Packed;
}
const read = ({ out }: Packed, path: string) => readFileSync(join(out, path), 'utf8');
const feeding = { colonies: 12, season: 'autumn' };
const mixed = { sugarKg: 24, waterL: 12 };

/** Every path in a folder may be read and run by anybody, and written by nobody. */
function readOnly(path: string): void {
  const isFolder = statSync(path).isDirectory();
  if (isFolder) for (const name of readdirSync(path)) readOnly(join(path, name));
  chmodSync(path, isFolder || (statSync(path).mode & 0o100) !== 0 ? 0o555 : 0o444);
}

/** As another user, with an empty environment, without a network, on a tree that is read only. */
function alone(folder: string, words: readonly string[]): readonly string[] {
  readOnly(folder);
  // What lies above it is entered by others too.
  for (let path = dirname(folder); path.startsWith('/tmp/'); path = dirname(path)) chmodSync(path, 0o755);
  return [
    'setpriv',
    '--reuid=65534',
    '--regid=65534',
    '--clear-groups',
    'unshare',
    '--user',
    '--net',
    'env',
    '-i',
    process.execPath,
    ...words,
  ];
}

async function callsFeeding(command: readonly string[], cwd?: string): Promise<void> {
  const client = await connect(command, cwd === undefined ? {} : { cwd });
  expect((await client.call('mix_syrup', feeding)).structuredContent).toEqual(mixed);
  await client.close();
}

test('file: alone in a folder, as another user, without a network; a source map on request', async () => {
  const packed = await pack('file', [hives], '--source-map');
  expect(packed.files.map(({ path }) => path)).toEqual(['hives.mjs', 'hives.mjs.map']);
  expect(packed.tried).toBe(true);
  const { sources } = JSON.parse(read(packed, 'hives.mjs.map')) as { sources: string[] };
  expect(sources.some((each) => each.endsWith('hives.ts'))).toBe(true);
  await callsFeeding(alone(packed.out, [join(packed.out, 'hives.mjs')]));
});

test('several targets with a folder beside; what is in the folder is found where it runs', async () => {
  const packed = await pack('file', [hives, join(cooperative, 'handbook'), join(cooperative, 'registry.openapi.yaml')]);
  expect(packed.files.map(({ path }) => path)).toEqual(['handbook', 'hives-handbook-registry.openapi.mjs']);
  const client = await connect(alone(packed.out, [join(packed.out, 'hives-handbook-registry.openapi.mjs')]));
  expect((await client.call('mix_syrup', feeding)).structuredContent).toEqual(mixed);
  expect(JSON.stringify(await client.call('search_handbook', { query: 'swarm' }))).toContain('swarm');
  expect((await client.tools()).map(({ name }) => name)).toContain('list_apiaries');
  await client.close();
});

test('a plan file, with chains, prompts and middleware', async () => {
  const folder = freshFolder('pack-plan');
  cpSync(hives, join(folder, 'hives.ts'));
  cpSync(join(cooperative, 'handbook'), join(folder, 'handbook'), { recursive: true });
  writeFileSync(join(folder, 'about.md'), '# About');
  writeFileSync(
    join(folder, 'apiary.jexo.yaml'),
    `name: apiary
middleware: [{ timeout: 5 s }]
offers:
  - functions: ./hives.ts
  - folder: ./handbook
  - tool: autumn_syrup
    description: Thick syrup for so many colonies.
    input: { type: object, properties: { colonies: { type: integer } }, required: [colonies] }
    call: mix_syrup
    with: { colonies: '{{colonies}}', season: autumn }
  - prompt: report
    text: Write the report.
  - resource: apiary://about
    file: about.md
`,
  );
  const packed = await pack('file', [join(folder, 'apiary.jexo.yaml')]);
  expect(packed.files.map(({ path }) => path)).toEqual(['about.md', 'apiary.mjs', 'handbook']);
  const client = await connect(alone(packed.out, [join(packed.out, 'apiary.mjs')]));
  expect(
    (await client.call('autumn_syrup', { colonies: 12 })).structuredContent ??
      JSON.parse(textOf(await client.call('autumn_syrup', { colonies: 12 }))),
  ).toEqual(mixed);
  expect((await client.read('apiary://about')).contents).toMatchObject([{ text: '# About' }]);
  expect((await client.prompts()).map(({ name }) => name)).toEqual(['report']);
  await client.close();
});
const textOf = ({ content }: { readonly content: readonly unknown[] }) => (content[0] as { text: string }).text;

test('package: clean for publint, its types compile, and npx runs it from a tarball, offline', async () => {
  const packed = await pack('package', [hives], '--publish-as', '@alderwick/hives');
  const { messages } = await publint({ pkgDir: packed.out, strict: true });
  expect(messages).toEqual([]);
  expect(read(packed, 'README.md')).toMatch(/### mix_syrup[\s\S]*\| `colonies` \| `number` \|/);
  expect(read(packed, 'LICENCES.md')).toContain('## jexo');
  const tarball = await run('npm', ['pack', '--pack-destination', freshFolder('tarball'), '--json'], { cwd: packed.out });
  const [{ filename }] = JSON.parse(tarball.stdout) as [{ filename: string }];
  const destination = /--pack-destination/.test(tarball.stderr) ? '' : filename;
  expect(destination).toMatch(/alderwick-hives-.*\.tgz$/);
  const empty = freshFolder('installed');
  mkdirSync(join(empty, 'home'));
  const env = { HOME: join(empty, 'home'), npm_config_offline: 'true', npm_config_cache: join(empty, 'cache'), npm_config_audit: 'false' };
  const place = (await run('npm', ['pack', packed.out, '--pack-destination', empty], { cwd: empty })).stdout.trim().split('\n').at(-1)!;
  writeFileSync(join(empty, 'package.json'), '{"private":true,"type":"module"}');
  const installed = await run('npm', ['install', '--offline', '--no-fund', join(empty, place)], { cwd: empty, env });
  expect([installed.code, installed.code === 0 ? '' : installed.stderr]).toEqual([0, '']);
  await callsFeeding(['env', `HOME=${env.HOME}`, 'npx', '--offline', '--no-install', '@alderwick/hives'], empty);
  writeFileSync(
    join(empty, 'use.ts'),
    `import { server, type Tools } from '@alderwick/hives';
const input: Tools['mix_syrup']['input'] = { colonies: 3, season: 'autumn' };
// @ts-expect-error: the season is one of three
const wrong: Tools['mix_syrup']['input'] = { colonies: 3, season: 'winter' };
export const name: string = server.info.name; export { input, wrong };`,
  );
  const program = ts.createProgram([join(empty, 'use.ts')], {
    module: ts.ModuleKind.NodeNext,
    moduleResolution: ts.ModuleResolutionKind.NodeNext,
    target: ts.ScriptTarget.ES2022,
    strict: true,
    noEmit: true,
    types: [],
  });
  expect(ts.getPreEmitDiagnostics(program).map(({ messageText }) => messageText)).toEqual([]);
});

test('container: its files are sound, and its steps run in a clean folder, read only, as another user', async () => {
  const packed = await pack('container', [hives], '--public-url', 'https://apiary.example/mcp', '--base-image', 'node@sha256:abc');
  const dockerfile = read(packed, 'Dockerfile');
  expect(validate(dockerfile)).toEqual([]);
  expect(dockerfile).toContain('ARG BASE=node@sha256:abc');
  const { services } = parse(read(packed, 'compose.yaml')) as { services: Record<string, Record<string, unknown>> };
  expect(services.hives).toMatchObject({ read_only: true, cap_drop: ['ALL'], ports: ['127.0.0.1:4300:4300'] });
  // The steps of the image: the files that are copied, the check while building, the entry point with its words.
  const app = freshFolder('image');
  cpSync(join(packed.out, 'app'), app, { recursive: true });
  expect(existsSync(join(app, 'package.json'))).toBe(true);
  const version = await run(process.execPath, [join(app, 'server.mjs'), '--version']);
  expect([version.code, version.stderr.trim()]).toEqual([0, '0.1.0']);
  await callsFeeding(alone(app, [join(app, 'server.mjs')]));
  const [, words] = /^CMD (.*)$/m.exec(dockerfile)!;
  const [, health] = /CMD \["node", "-e", ("(?:[^"\\]|\\.)*")\]/.exec(dockerfile)!;
  // With a network of its own, so that the port is its own too.
  const script = `ip link set lo up 2>/dev/null; node server.mjs ${(JSON.parse(words!) as string[]).join(' ')} 2>said & until grep -q served said; do sleep 0.1; done; node -e ${JSON.stringify(JSON.parse(health!))}; echo "health $?"; kill %1; wait`;
  const folder = freshFolder('image-run');
  cpSync(app, folder, { recursive: true });
  chmodSync(folder, 0o755);
  const health_ = await run('unshare', ['--user', '--map-root-user', '--net', 'env', `PATH=${process.env.PATH}`, 'bash', '-c', script], {
    cwd: folder,
  });
  expect([health_.stdout.trim(), health_.stderr]).toEqual(['health 0', expect.any(String)]);
});

test('a database is packed with its package named, and compose starts one', async () => {
  const queries = freshFolder('queries');
  writeFileSync(join(queries, 'weights.sql'), '-- Weights of hives.\nselect 1 as kg;\n');
  const { code, stderr } = await jexo(
    ['pack', 'env:SCALES_DB', '--queries', queries, '--as', 'container', '--out', join(freshFolder('db'), 'out')],
    {
      env: { SCALES_DB: 'postgres://postgres@127.0.0.1:5432/postgres' },
    },
  );
  expect([code, stderr]).toEqual([0, expect.stringContaining('It needs SCALES_DB')]);
});

withNginx('service: a hardened unit that is valid, and a proxy’s snippet that works in a real nginx', async () => {
  const packed = await pack('service', [hives], '--public-url', 'https://apiary.example/tools/mcp');
  const unit = read(packed, 'hives.service');
  expect(unit).toContain('--public-url https://apiary.example/tools/mcp');
  if (spawnSync('systemd-analyze', ['--version']).error === undefined) {
    const checked = await run('systemd-analyze', ['security', '--offline=true', '--no-pager', join(packed.out, 'hives.service')]);
    const [, level] = /Overall exposure level for .*: ([\d.]+)/.exec(checked.stdout) ?? [];
    expect(Number(level)).toBeLessThan(2.5);
  } else console.warn('systemd-analyze is not installed: the unit is not judged.');
  const port = await freePort();
  const child = spawn(
    process.execPath,
    [
      'app/server.mjs',
      '--http',
      String(port),
      '--public-url',
      'https://apiary.example/tools/mcp',
      '--proxy',
      'loopback',
      '--base-path',
      '/tools',
    ],
    {
      cwd: packed.out,
      env: { PATH: process.env.PATH },
    },
  );
  await new Promise((resolve) => child.stderr.once('data', resolve));
  const nginx = await startNginx(
    read(packed, 'nginx.conf').replace('127.0.0.1:4300', `127.0.0.1:${port}`).replace('listen 80', 'listen 127.0.0.1:PORT'),
  );
  try {
    const client = await connect(`${nginx.url}/tools/mcp`);
    expect((await client.call('mix_syrup', feeding)).structuredContent).toEqual(mixed);
    await client.close();
  } finally {
    await nginx.stop();
    child.kill('SIGKILL');
  }
});

test('function: web standards alone, in a runtime of workers without code from texts; and the shape of events', async () => {
  const packed = await pack('function');
  const code = read(packed, 'hives.mjs');
  // No Node in it: a statement that imports anything could not even be read here.
  const edge = new EdgeVM({ codeGeneration: { strings: false, wasm: false } } as never);
  edge.evaluate(
    code.replace(
      /export\s*\{([^{}]*)\};?(?![\s\S]*export\s*\{[^{}]*\bas default)/,
      (_all, names: string) => `globalThis.packed = {${names.replaceAll(/([^\s,]+)\s+as\s+([^\s,]+)/g, '$2: $1')}};`,
    ),
  );
  const answers: unknown[] = await edge.evaluate(`(async () => {
    const headers = { 'content-type': 'application/json', accept: 'application/json, text/event-stream', 'mcp-protocol-version': '2025-11-25' };
    const body = JSON.stringify({ jsonrpc: '2.0', id: 1, method: 'tools/call', params: { name: 'mix_syrup', arguments: ${JSON.stringify(feeding)} } });
    const one = await packed.fetch(new Request('https://edge.example/mcp', { method: 'POST', headers, body }));
    const two = await packed.handler({ rawPath: '/mcp', requestContext: { http: { method: 'POST' } }, headers, body: btoa(body), isBase64Encoded: true });
    const three = await packed.handler({ httpMethod: 'POST', path: '/mcp', queryStringParameters: { a: '1' }, headers, body });
    const ready = await packed.fetch(new Request('https://edge.example/ready'));
    const invalid = await packed.handler({ httpMethod: 'POST', path: '/mcp', headers, body: body.replace('autumn', 'winter') });
    return JSON.parse(JSON.stringify([await one.json(), JSON.parse(two.body), JSON.parse(three.body), await ready.text(), JSON.parse(invalid.body)]));
  })()`);
  const right = { result: { structuredContent: mixed } };
  expect(answers).toMatchObject([right, right, right, 'ready\n', { result: { isError: true } }]);
  const folder = await jexo(['pack', join(cooperative, 'handbook'), '--as', 'function', '--out', freshFolder('no-disk')]);
  expect([folder.code, folder.stderr]).toEqual([3, expect.stringContaining('JEXO_PACK')]);
  const needs = freshFolder('needs-node');
  writeFileSync(
    join(needs, 'files.mjs'),
    "import { readFileSync } from 'node:fs';\n/** Reads. @param {string} path */\nexport function read(path) { return readFileSync(path, 'utf8'); }\n",
  );
  const refused = await jexo(['pack', join(needs, 'files.mjs'), '--as', 'function', '--out', join(needs, 'out')]);
  expect([refused.code, refused.stderr]).toEqual([3, expect.stringContaining('Hosts of functions have no modules of Node')]);
});

test('kubernetes: objects that fit together, secrets by reference', async () => {
  const { REGISTRY_TOKEN: _, ...rest } = process.env;
  expect(rest).toBeDefined();
  const packed = await pack('kubernetes', [join(cooperative, 'registry.openapi.yaml')], '--publish-as', 'registry.example/bees:1.2.3');
  const [deployment, service, budget] = parseAllDocuments(read(packed, 'kubernetes.yaml')).map(
    (each) => each.toJS() as Record<string, never>,
  ) as never[] as {
    readonly kind: string;
    readonly spec: {
      readonly selector: { readonly matchLabels: object };
      readonly template: {
        readonly metadata: { readonly labels: object };
        readonly spec: { readonly containers: readonly Record<string, never>[] };
      };
      readonly ports: readonly { readonly targetPort: string }[];
    };
  }[];
  expect([deployment!.kind, service!.kind, budget!.kind]).toEqual(['Deployment', 'Service', 'PodDisruptionBudget']);
  const [container] = deployment!.spec.template.spec.containers;
  expect(container).toMatchObject({
    image: 'registry.example/bees:1.2.3',
    env: [{ name: 'REGISTRY_TOKEN', valueFrom: { secretKeyRef: { key: 'REGISTRY_TOKEN' } } }],
    securityContext: { runAsNonRoot: true, readOnlyRootFilesystem: true },
    readinessProbe: { httpGet: { path: '/ready', port: 'admin' } },
  });
  expect((container!.ports as unknown as { name: string }[]).map(({ name }) => name)).toContain(service!.spec.ports[0]!.targetPort);
  expect(deployment!.spec.template.metadata.labels).toEqual(service!.spec.selector);
  expect(budget!.spec.selector.matchLabels).toEqual(deployment!.spec.selector.matchLabels);
  // The words the image is started with are words it knows.
  const { code } = await run(process.execPath, [
    join(packed.out, 'app/server.mjs'),
    ...(container!.args as unknown as string[]),
    '--version',
  ]);
  expect(code).toBe(0);
});

test('manifest: the registry’s entry, a bill of materials, and a statement whose signature holds', async () => {
  const folder = freshFolder('sign');
  const { privateKey, publicKey } = generateKeyPairSync('ed25519');
  writeFileSync(join(folder, 'sign.pem'), privateKey.export({ type: 'pkcs8', format: 'pem' }));
  const packed = await pack('manifest', [hives], '--sign-key', join(folder, 'sign.pem'), '--publish-as', '@alderwick/hives');
  const registry = JSON.parse(read(packed, 'server.json')) as Record<string, string & unknown[]>;
  expect(registry.name).toMatch(/^[a-zA-Z0-9.-]+\/[a-zA-Z0-9._-]+$/);
  expect(registry.description!.length).toBeLessThanOrEqual(100);
  expect(registry.packages).toEqual([
    { registryType: 'npm', identifier: '@alderwick/hives', version: '0.1.0', transport: { type: 'stdio' } },
  ]);
  const bill = JSON.parse(read(packed, 'sbom.cdx.json')) as {
    bomFormat: string;
    components: { purl: string }[];
    dependencies: { dependsOn: string[] }[];
  };
  expect(bill.bomFormat).toBe('CycloneDX');
  expect(bill.dependencies[0]!.dependsOn).toEqual(bill.components.map(({ purl }) => purl));
  const statement = read(packed, 'statement.json');
  const { files, tools } = JSON.parse(statement) as { files: Record<string, string>; tools: Record<string, string> };
  for (const [path, hash] of Object.entries(files))
    expect([path, createHash('sha256').update(read(packed, path)).digest('hex')]).toEqual([path, hash]);
  expect(Object.keys(tools)).toContain('mix_syrup');
  const [, signature] = read(packed, 'statement.sig').split('\n');
  expect(verify(null, Buffer.from(statement), publicKey, Buffer.from(signature!, 'base64'))).toBe(true);
  expect(verify(null, Buffer.from(statement.replace('hives', 'wasps')), publicKey, Buffer.from(signature!, 'base64'))).toBe(false);
  const bad = await jexo(['pack', hives, '--as', 'manifest', '--out', join(folder, 'out'), '--sign-key', hives]);
  expect([bad.code, bad.stderr]).toEqual([3, expect.stringContaining('cannot sign')]);
});

test.each(['file', 'package', 'container', 'service', 'function', 'kubernetes', 'manifest'])(
  '%s: the same input gives the same bytes, wherever it lies',
  async (as) => {
    const packs = await Promise.all(
      ['one', 'another-place'].map(async (name) => {
        const folder = freshFolder(name);
        cpSync(hives, join(folder, 'hives.ts'));
        return pack(as, [join(folder, 'hives.ts')]);
      }),
    );
    const [one, two] = packs as [Packed, Packed];
    expect(two.files).toEqual(one.files);
    for (const { path } of one.files) expect([path, read(two, path) === read(one, path)]).toEqual([path, true]);
  },
);

test('what does not work where nothing else is, is not written', async () => {
  const folder = freshFolder('depends');
  writeFileSync(join(folder, 'words.json'), '["bee"]');
  writeFileSync(
    join(folder, 'words.mjs'),
    `import { readFileSync } from 'node:fs';\nconst words = JSON.parse(readFileSync(new URL('./words.json', import.meta.url), 'utf8'));\n/** A word. */\nexport function word() { return words[0]; }\n`,
  );
  const { code, stderr } = await jexo(['pack', join(folder, 'words.mjs'), '--out', join(folder, 'out')]);
  expect([code, stderr]).toEqual([3, expect.stringContaining('does not work where nothing else is')]);
  expect(existsSync(join(folder, 'out'))).toBe(false);
});
