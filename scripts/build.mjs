// Builds everything that is published or run: the library, the command line, the type reader's compiler, the page.
// What has not changed since the last build is not built again; --force builds all.
import { spawnSync } from 'node:child_process';
import { createHash } from 'node:crypto';
import { chmodSync, copyFileSync, existsSync, mkdirSync, readdirSync, readFileSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { createRequire } from 'node:module';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { gzipSync } from 'node:zlib';
import { build, transformSync } from 'esbuild';

const root = join(dirname(fileURLToPath(import.meta.url)), '..');
process.chdir(root);
const pkg = join(root, 'packages/jexo');
const dist = join(pkg, 'dist');
const quiet = process.argv.includes('--quiet');
const force = process.argv.includes('--force');
const require = createRequire(join(pkg, 'package.json'));

/** Runs `make` when the files under `inputs` are not those of the last time. */
async function step(name, inputs, make) {
  const sum = createHash('sha256');
  for (const file of inputs.flatMap((input) => filesUnder(join(root, input))).sort())
    sum.update(file.slice(root.length)).update(readFileSync(file));
  const stamp = join(dist, `.${name}.stamp`);
  const digest = sum.digest('hex');
  if (!force && existsSync(stamp) && readFileSync(stamp, 'utf8') === digest) return;
  const start = Date.now();
  mkdirSync(dist, { recursive: true });
  rmSync(stamp, { force: true });
  await make();
  writeFileSync(stamp, digest);
  if (!quiet) console.error(`built ${name} in ${Date.now() - start} ms`);
}

function filesUnder(path) {
  if (!existsSync(path)) return [];
  if (statSync(path).isFile()) return [path];
  return readdirSync(path, { recursive: true, withFileTypes: true })
    .filter((entry) => entry.isFile() && !/node_modules|[\\/]dist([\\/]|$)/.test(entry.parentPath ?? entry.path))
    .map((entry) => join(entry.parentPath ?? entry.path, entry.name));
}

function run(command, args, cwd) {
  const done = spawnSync(process.execPath, [command, ...args], {
    cwd,
    stdio: quiet ? ['ignore', 'pipe', 'inherit'] : ['ignore', 'inherit', 'inherit'],
    encoding: 'utf8',
  });
  if (done.status === 0) return;
  if (done.stdout) process.stderr.write(done.stdout);
  throw new Error(`${command} failed`);
}

// The compiler's API, made small: the type reader uses this copy, whatever the user's project has installed.
function buildCompiler() {
  const folder = dirname(require.resolve('typescript/package.json'));
  const out = join(dist, 'compiler');
  mkdirSync(out, { recursive: true });
  const { code } = transformSync(readFileSync(join(folder, 'lib/typescript.js'), 'utf8'), {
    minify: true,
    platform: 'node',
    target: 'node20',
    legalComments: 'none',
  });
  writeFileSync(join(out, 'compiler.cjs.gz'), gzipSync(code, { level: 9 }));
  const libraries = { 'runtime.d.ts': readFileSync(join(pkg, 'assets/runtime.d.ts'), 'utf8') };
  for (const name of readdirSync(join(folder, 'lib'))) {
    if (!/^lib\.(es|decorators)/.test(name) || name.endsWith('.full.d.ts')) continue;
    libraries[name] = readFileSync(join(folder, 'lib', name), 'utf8')
      .replaceAll(/\/\*[\s\S]*?\*\//g, '')
      .replaceAll(/^\s*\n/gm, '');
  }
  libraries['lib.esnext.full.d.ts'] = '/// <reference lib="esnext" />\n';
  writeFileSync(join(out, 'libraries.json.gz'), gzipSync(JSON.stringify(libraries), { level: 9 }));
  copyFileSync(join(folder, 'LICENSE.txt'), join(out, 'LICENSE.txt'));
}

async function buildLibrary() {
  for (const entry of existsSync(dist) ? readdirSync(dist) : []) if (entry.endsWith('.mjs')) rmSync(join(dist, entry));
  const shared = {
    absWorkingDir: root,
    bundle: true,
    format: 'esm',
    target: 'es2022',
    minify: true,
    legalComments: 'none',
    metafile: true,
    outdir: dist,
    outExtension: { '.js': '.mjs' },
    logLevel: 'warning',
  };
  const { version } = JSON.parse(readFileSync(join(pkg, 'package.json'), 'utf8'));
  const define = { 'process.env.JEXO_VERSION': JSON.stringify(version) };
  const node = await build({
    ...shared,
    define,
    entryPoints: {
      index: join(pkg, 'src/index.ts'),
      testing: join(pkg, 'src/testing.ts'),
      cli: join(pkg, 'src/cli/main.ts'),
      packed: join(pkg, 'src/pack/packed-entry.ts'),
    },
    platform: 'node',
    target: 'node20',
    splitting: true,
    chunkNames: 'part-[hash]',
    external: ['esbuild', 'typescript'],
    // Its other form loads its parts in a way that cannot be built in.
    alias: { 'jsonc-parser': 'jsonc-parser/lib/esm/main.js' },
    // Packages written in the older module format call require for Node's own modules.
    banner: { js: "import { createRequire as __createRequire } from 'node:module'; const require = __createRequire(import.meta.url);" },
  });
  const browser = await build({ ...shared, define, entryPoints: [join(pkg, 'src/browser.ts')], platform: 'browser' });
  await writeSheetSchemas(shared);
  chmodSync(join(dist, 'cli.mjs'), 0o755);
  writeNotices([...Object.keys(node.metafile.inputs), ...Object.keys(browser.metafile.inputs)]);
}

// The schemas of sheets are published for editors, from the same source the library checks by.
async function writeSheetSchemas(shared) {
  const { outputFiles } = await build({
    ...shared,
    outdir: undefined,
    entryPoints: [join(pkg, 'src/inspect/sheets/schemas.ts')],
    write: false,
  });
  const { callSheetSchema, requestSheetSchema } = await import(`data:text/javascript,${encodeURIComponent(outputFiles[0].text)}`);
  for (const [name, schema] of Object.entries({ calls: callSheetSchema, requests: requestSheetSchema }))
    writeFileSync(join(dist, `${name}.schema.json`), `${JSON.stringify(schema, null, 2)}\n`);
}

// The licences of what is built in travel with it.
function writeNotices(inputs) {
  const folders = new Set(inputs.map((input) => /^.*node_modules\/(?:@[^/]+\/)?[^/]+/.exec(input)?.[0]).filter(Boolean));
  const parts = [...folders].sort().map((place) => {
    const folder = join(process.cwd(), place);
    const name = place.replace(/^.*node_modules\//, '');
    const { version, license } = JSON.parse(readFileSync(join(folder, 'package.json'), 'utf8'));
    const file = readdirSync(folder).find((entry) => /^licen[cs]e/i.test(entry));
    return `## ${name} ${version} (${license})\n\n${file ? readFileSync(join(folder, file), 'utf8').trim() : ''}\n`;
  });
  writeFileSync(
    join(pkg, 'THIRD-PARTY.md'),
    `# What is built into this package\n\nThe type reader's compiler has its licence beside it, in dist/compiler.\n\n${parts.join('\n')}`,
  );
}

await step('compiler', ['packages/jexo/assets', 'package-lock.json', 'scripts/build.mjs'], buildCompiler);
await step('library', ['packages/jexo/src', 'packages/jexo/package.json', 'package-lock.json', 'scripts/build.mjs'], buildLibrary);
await step('types', ['packages/jexo/src', 'packages/jexo/tsconfig.json', 'tsconfig.base.json', 'package-lock.json'], () =>
  run(join(root, 'node_modules/typescript/bin/tsc'), ['-p', 'packages/jexo'], root),
);
if (existsSync(join(root, 'apps/inspector/index.html')))
  await step('page', ['apps/inspector', 'package-lock.json'], () =>
    run(join(root, 'node_modules/vite/bin/vite.js'), ['build', '--logLevel', 'warn'], join(root, 'apps/inspector')),
  );
for (const name of ['LICENSE', 'README.md']) if (existsSync(join(root, name))) copyFileSync(join(root, name), join(pkg, name));
