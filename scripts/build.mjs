// Builds everything that is published or run: the library, the command line, the type reader's compiler, the page.
// What has not changed since the last build is not built again; --force builds all.
import { spawnSync } from 'node:child_process';
import { createHash } from 'node:crypto';
import { chmodSync, copyFileSync, existsSync, mkdirSync, readdirSync, readFileSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { builtinModules, createRequire } from 'node:module';
import { basename, dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { brotliCompressSync, gzipSync } from 'node:zlib';
import { build, transformSync } from 'esbuild';

const root = join(dirname(fileURLToPath(import.meta.url)), '..');
process.chdir(root);
const pkg = join(root, 'packages/jexo');
const dist = join(pkg, 'dist');
const quiet = process.argv.includes('--quiet');
const force = process.argv.includes('--force');
const require = createRequire(join(pkg, 'package.json'));
const requireAjv = createRequire(require.resolve('ajv/package.json'));

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
  writeFileSync(join(out, 'compiler.cjs.br'), brotliCompressSync(code));
  const libraries = { 'runtime.d.ts': readFileSync(join(pkg, 'assets/runtime.d.ts'), 'utf8') };
  for (const name of readdirSync(join(folder, 'lib'))) {
    if (!/^lib\.(es|decorators)/.test(name) || name.endsWith('.full.d.ts')) continue;
    libraries[name] = readFileSync(join(folder, 'lib', name), 'utf8')
      .replaceAll(/\/\*[\s\S]*?\*\//g, '')
      .replaceAll(/^\s*\n/gm, '');
  }
  libraries['lib.esnext.full.d.ts'] = '/// <reference lib="esnext" />\n';
  writeFileSync(join(out, 'libraries.json.gz'), gzipSync(JSON.stringify(libraries), { level: 9 }));
  for (const name of ['LICENSE.txt', 'ThirdPartyNoticeText.txt']) copyFileSync(join(folder, name), join(out, name));
}

/**
 * A client checks a few answers by schemas that servers send: they are read as they stand, as in pages that may not make code of texts. The
 * schema compiler would be two thirds of the bundle.
 */
const withoutCompiler = {
  name: 'without-compiler',
  setup(builder) {
    builder.onResolve({ filter: /^ajv(-formats)?(\/|$)/ }, ({ path }) => ({ path, namespace: 'no-compiler' }));
    builder.onLoad({ filter: /.*/, namespace: 'no-compiler' }, () => ({
      contents: `export class Ajv { compile() { throw new EvalError('Schemas are not compiled in this bundle'); } }
export { Ajv as Ajv2020 };
export default () => undefined;`,
    }));
  },
};

async function buildLibrary() {
  for (const entry of existsSync(dist) ? readdirSync(dist) : []) if (entry.endsWith('.mjs')) rmSync(join(dist, entry));
  const shared = {
    absWorkingDir: root,
    bundle: true,
    format: 'esm',
    target: 'es2022',
    minify: true,
    // A program that does not catch an error gets the line printed where it was thrown.
    lineLimit: 300,
    legalComments: 'none',
    metafile: true,
    outdir: dist,
    outExtension: { '.js': '.mjs' },
    logLevel: 'warning',
  };
  // Other packages may bring copies of these of their own; one of each is enough.
  const oneOfEach = Object.fromEntries(
    ['ajv', 'json-schema-traverse', 'fast-uri', 'fast-deep-equal'].map((name) => [
      name,
      dirname(requireAjv.resolve(`${name}/package.json`)),
    ]),
  );
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
      vite: join(pkg, 'src/vite-entry.ts'),
    },
    platform: 'node',
    target: 'node20',
    splitting: true,
    chunkNames: 'part-[hash]',
    external: ['esbuild', 'typescript', 'vite'],
    // Its other form loads its parts in a way that cannot be built in.
    alias: { ...oneOfEach, 'jsonc-parser': 'jsonc-parser/lib/esm/main.js' },
    // Packages written in the older module format call require for Node's own modules.
    banner: { js: "import { createRequire as __createRequire } from 'node:module'; const require = __createRequire(import.meta.url);" },
  });
  // What a pack for hosts of functions is built from: nothing of Node may be left in it.
  await build({
    ...shared,
    define: { ...define, 'process.env.NODE_ENV': '"production"', 'process.platform': '"web"' },
    entryPoints: { 'packed-fetch': join(pkg, 'src/pack/packed-fetch.ts') },
    platform: 'browser',
    target: 'es2022',
    conditions: ['worker', 'browser'],
    alias: oneOfEach,
    external: ['typescript', 'esbuild'],
    plugins: [withoutNode],
  });
  compress(join(dist, 'packed-fetch.mjs'));
  const browser = await build({ ...shared, define, entryPoints: [join(pkg, 'src/browser.ts')], platform: 'browser', alias: oneOfEach });
  // The client alone, for pages that serve nothing.
  await build({
    ...shared,
    define,
    entryPoints: { client: join(pkg, 'src/client-entry.ts') },
    platform: 'browser',
    plugins: [withoutCompiler],
  });
  // For pages that hosts show, and for the hosts.
  await build({
    ...shared,
    define,
    entryPoints: {
      view: join(pkg, 'src/view/index.ts'),
      'view-react': join(pkg, 'src/view/react.ts'),
      'view-host': join(pkg, 'src/view/host.ts'),
    },
    platform: 'browser',
    external: ['react'],
  });
  // Parts that a pack carries folded up, since most servers never load them: by the file of the chunk.
  const folded = ['node_modules/pino/pino.js', 'node_modules/prom-client/index.js', 'packages/jexo/src/offers/json-schema-check.ts'];
  const isFolded = (entry = '') => folded.includes(entry) || /^node_modules\/yaml\//.test(entry);
  const chunks = Object.entries(node.metafile.outputs).filter(([, { entryPoint }]) => isFolded(entryPoint));
  if (chunks.length !== folded.length + 1) throw new Error(`Parts to fold up: ${chunks.map(([file]) => file).join(', ')}`);
  writeFileSync(join(dist, 'folded.json'), `${JSON.stringify(chunks.map(([file]) => basename(file)).sort())}\n`);
  await writeSheetSchemas(shared);
  chmodSync(join(dist, 'cli.mjs'), 0o755);
  writeFileSync(
    join(dist, '.library.inputs.json'),
    JSON.stringify([...Object.keys(node.metafile.inputs), ...Object.keys(browser.metafile.inputs)]),
  );
}

/** Keeps a file compressed, and not as it is: it is read now and then, and installed everywhere. */
function compress(file, isForBrowsers = false) {
  const text = readFileSync(file);
  writeFileSync(`${file}.${isForBrowsers ? 'gz' : 'br'}`, isForBrowsers ? gzipSync(text, { level: 9 }) : brotliCompressSync(text));
  rmSync(file);
}

const filesIn = (folder) =>
  readdirSync(folder, { recursive: true, withFileTypes: true }).flatMap((entry) =>
    entry.isFile() ? [join(entry.parentPath ?? entry.path, entry.name)] : [],
  );

// Declarations that no public one leads to are not published: `npm pack` reads a list of what it leaves, folder by folder.
function keepTypesAtHome() {
  const types = join(dist, 'types');
  const { exports } = JSON.parse(readFileSync(join(pkg, 'package.json'), 'utf8'));
  const waiting = Object.values(exports).flatMap((each) => (each.types === undefined ? [] : [join(pkg, each.types)]));
  const reached = new Set();
  for (let file = waiting.pop(); file !== undefined; file = waiting.pop()) {
    if (reached.has(file) || !existsSync(file)) continue;
    reached.add(file);
    for (const [, from] of readFileSync(file, 'utf8').matchAll(/(?:from|import\()\s*['"](\.[^'"]+)\.js['"]/g))
      waiting.push(join(dirname(file), `${from}.d.ts`));
  }
  const all = readdirSync(types, { recursive: true }).filter((file) => file.endsWith('.d.ts'));
  const left = all.filter((file) => !reached.has(join(types, file)));
  writeFileSync(join(types, '.npmignore'), `${left.join('\n')}\n`);
}

// The page at the root of a served server, small enough to be sent whole.
async function buildFrontPage() {
  const { metafile } = await build({
    absWorkingDir: root,
    entryPoints: { front: join(root, 'apps/inspector/src/front.tsx') },
    outdir: dist,
    bundle: true,
    minify: true,
    format: 'esm',
    target: 'es2022',
    jsx: 'automatic',
    define: { 'process.env.NODE_ENV': '"production"' },
    legalComments: 'none',
    metafile: true,
    logLevel: 'warning',
  });
  writeFileSync(join(dist, '.front.inputs.json'), JSON.stringify(Object.keys(metafile.inputs)));
  compress(join(dist, 'front.js'));
}

// The schemas of sheets and plans are published for editors, from the same source the library checks by.
async function writeSheetSchemas(shared) {
  const read = async (file) => {
    const { outputFiles } = await build({ ...shared, outdir: undefined, entryPoints: [join(pkg, file)], write: false });
    return import(`data:text/javascript,${encodeURIComponent(outputFiles[0].text)}`);
  };
  const { callSheetSchema, questionSheetSchema, requestSheetSchema } = await read('src/inspect/sheets/schemas.ts');
  const { planSchema } = await read('src/plans/plan-schema.ts');
  const schemas = { calls: callSheetSchema, requests: requestSheetSchema, questions: questionSheetSchema, plan: planSchema };
  for (const [name, schema] of Object.entries(schemas))
    writeFileSync(join(dist, `${name}.schema.json`), `${JSON.stringify(schema, null, 2)}\n`);
}

// Parts that read files or types are never asked in a pack, which carries what they read. What they import stands there by name and throws.
const withoutNode = {
  name: 'without-node',
  setup({ onResolve, onLoad }) {
    const names = new Set(builtinModules);
    onResolve({ filter: /.*/ }, ({ path }) => {
      const bare = path.replace(/^node:/, '');
      return names.has(bare) ? { path: bare, namespace: 'node-stub', sideEffects: false } : undefined;
    });
    onLoad({ filter: /.*/, namespace: 'node-stub' }, async ({ path }) => {
      const own = {
        url: 'export const fileURLToPath = (url) => decodeURIComponent(new URL(url).pathname);\nexport const pathToFileURL = (path) => new URL(`file://${path}`);\nexport default {};',
        path: "export const basename = (path, end = '') => { const name = path.replace(/\\/+$/, '').replace(/^.*\\//, ''); return end !== '' && name.endsWith(end) ? name.slice(0, -end.length) : name; };\nexport const extname = (path) => /\\.[^./]*$/.exec(basename(path))?.[0] ?? '';\nexport const dirname = (path) => path.replace(/\\/[^/]*$/, '') || '/';\nexport const join = (...parts) => parts.join('/').replace(/\\/+/g, '/');\nexport const resolve = join;\nexport const relative = (_from, to) => to;\nexport const isAbsolute = (path) => path.startsWith('/');\nexport const sep = '/';\nexport default { basename, extname, dirname, join, resolve, relative, isAbsolute, sep };",
      }[path];
      if (own !== undefined) return { contents: own };
      const all = Object.keys(await import(`node:${path}`).catch(() => ({}))).filter(
        (name) => /^[A-Za-z_$][\w$]*$/.test(name) && name !== 'default',
      );
      const missing = `const missing = (name) => function () { throw new Error(\`\${name} of Node is not there: this is a pack for hosts of functions.\`); };`;
      return {
        contents: `${missing}\n${all.map((name) => `export const ${name} = /* @__PURE__ */ missing('${name}');`).join('\n')}\nexport default {};`,
      };
    });
  },
};

// What is built in is listed with its licences (THIRD-PARTY.md) and as a software bill of materials (CycloneDX).
async function writeNotices() {
  const [library, ...pages] = ['library', 'page', 'front'].map((name) =>
    JSON.parse(readFileSync(join(dist, `.${name}.inputs.json`), 'utf8')),
  );
  const { outputFiles } = await build({
    absWorkingDir: root,
    entryPoints: [join(pkg, 'src/pack/notices.ts')],
    bundle: true,
    format: 'esm',
    platform: 'node',
    write: false,
  });
  const { noticesOf, packagesOf } = await import(`data:text/javascript,${encodeURIComponent(outputFiles[0].text)}`);
  const packages = packagesOf([...library, ...pages.flat(), require.resolve('typescript/package.json')], root);
  checkLicences(packages);
  writeFileSync(
    join(pkg, 'THIRD-PARTY.md'),
    `# What is built into this package\n\nThe notices of the compiler's own parts are in dist/compiler.\n\n${noticesOf(packages)}`,
  );
  const {
    name,
    version,
    license,
    dependencies = {},
    optionalDependencies = {},
  } = JSON.parse(readFileSync(join(pkg, 'package.json'), 'utf8'));
  const outside = Object.keys({ ...dependencies, ...optionalDependencies }).map((each) => {
    const stated = JSON.parse(readFileSync(require.resolve(`${each}/package.json`), 'utf8'));
    return component(stated, each in dependencies ? 'required' : 'optional');
  });
  // What a packed file carries: the page and the compiler stay behind.
  writeFileSync(join(dist, 'library-licences.md'), noticesOf(packagesOf(library, root)));
  const bill = {
    bomFormat: 'CycloneDX',
    specVersion: '1.6',
    version: 1,
    metadata: { component: { ...component({ name, version, license }), 'bom-ref': `pkg:npm/${name}@${version}` } },
    components: [...packages.map((each) => component(each, 'required')), ...outside],
  };
  writeFileSync(join(dist, 'sbom.cdx.json'), `${JSON.stringify(bill, null, 2)}\n`);
}

function component({ name, version, license }, scope) {
  return {
    type: 'library',
    name,
    version,
    ...(scope && { scope }),
    licenses: [/[ ()]/.test(license) ? { expression: license } : { license: { id: license } }],
    purl: `pkg:npm/${name.replace('@', '%40')}@${version}`,
  };
}

/** Licences of what is shipped that ask for nothing but their notice. */
const allowed = new Set(['MIT', 'ISC', 'BSD-2-Clause', 'BSD-3-Clause', 'Apache-2.0', 'BlueOak-1.0.0', '0BSD', '(MIT AND Zlib)']);

function checkLicences(packages) {
  const wrong = packages.filter(({ license, text }) => !allowed.has(license) || text === '');
  if (wrong.length === 0) return;
  const list = wrong.map(({ name, version, license, text }) => `${name} ${version}: ${license}${text ? '' : ', no text'}`).join('\n');
  throw new Error(`These packages are built in, and their licences are not on the list in scripts/build.mjs:\n${list}`);
}

await step('compiler', ['packages/jexo/assets', 'package-lock.json', 'scripts/build.mjs'], buildCompiler);
await step('library', ['packages/jexo/src', 'packages/jexo/package.json', 'package-lock.json', 'scripts/build.mjs'], buildLibrary);
await step(
  'types',
  ['packages/jexo/src', 'packages/jexo/package.json', 'packages/jexo/tsconfig.json', 'tsconfig.base.json', 'package-lock.json'],
  () => {
    run(join(root, 'node_modules/typescript/bin/tsc'), ['-p', 'packages/jexo'], root);
    keepTypesAtHome();
  },
);
if (existsSync(join(root, 'apps/inspector/index.html')))
  await step('page', ['apps/inspector', 'package-lock.json', 'scripts/build.mjs'], () => {
    run(join(root, 'node_modules/vite/bin/vite.js'), ['build', '--logLevel', 'warn'], join(root, 'apps/inspector'));
    for (const file of filesIn(join(dist, 'page'))) if (/\.(?:js|css)$/.test(file)) compress(file, true);
  });
if (existsSync(join(root, 'examples/assistant/index.html')))
  await step('assistant', ['examples/assistant/src', 'examples/assistant/index.html', 'packages/jexo/src', 'package-lock.json'], () =>
    run(join(root, 'node_modules/vite/bin/vite.js'), ['build', '--logLevel', 'warn'], join(root, 'examples/assistant')),
  );
if (existsSync(join(root, 'apps/inspector/src/front.tsx')))
  await step('front', ['apps/inspector', 'package-lock.json', 'scripts/build.mjs'], buildFrontPage);
await step(
  'notices',
  [
    'packages/jexo/dist/.library.inputs.json',
    'packages/jexo/dist/.page.inputs.json',
    'packages/jexo/dist/.front.inputs.json',
    'packages/jexo/src/pack/notices.ts',
    'packages/jexo/package.json',
    'scripts/build.mjs',
  ],
  writeNotices,
);
for (const name of ['LICENSE', 'README.md']) if (existsSync(join(root, name))) copyFileSync(join(root, name), join(pkg, name));
