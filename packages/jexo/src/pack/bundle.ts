import { readFileSync } from 'node:fs';
import { isBuiltin } from 'node:module';
import { basename, dirname, isAbsolute, join, relative } from 'node:path';
import { pathToFileURL } from 'node:url';
import { brotliCompressSync } from 'node:zlib';
import type { BuildFailure, BuildOptions, BuildResult, Plugin } from 'esbuild';
import { JexoError, messageOf } from '../errors.js';
import type { Catalogue } from '../offers/catalogue.js';
import { freezeServer } from '../offers/thaw.js';
import { together } from '../offers/together.js';
import type { NeededSetting } from '../offers/source.js';
import type { OptionalPackage } from '../optional-package.js';
import { packageFile, packageText } from '../own-package.js';
import type { Implementation } from '../protocol/types.js';
import { loadBundler } from '../targets/bundler.js';
import { findKinds, type Found } from '../targets/find-kind.js';
import { howToOpen, openTargets, type OpenOptions } from '../targets/open-targets.js';
import type { Packable, Target } from '../targets/target-kind.js';
import { noticesOf, packagesOf, type BuiltIn } from './notices.js';

/** How targets are put into one file of code. */
export interface BundleOptions extends Pick<OpenOptions, 'name' | 'choice' | 'options' | 'kinds'> {
  /** What the file does: serve when it is run, be imported by what runs it, or answer web-standard requests without Node. Default `run`. */
  readonly entry?: 'run' | 'import' | 'fetch';
  /** True makes a source map. Default false. */
  readonly sourceMap?: boolean;
}

/** Targets as one file of code, with all that is known of it. */
export interface Bundle {
  /** A name for files. */
  readonly name: string;
  readonly code: string;
  /** The source map, where one was wanted. */
  readonly map: string | undefined;
  readonly info: Implementation;
  readonly catalogue: Catalogue;
  /** Variables of the environment that it needs where it runs. */
  readonly settings: readonly NeededSetting[];
  /** What it reads where it runs. */
  readonly beside: readonly { readonly path: string; readonly as: string }[];
  /** Packages that are installed where it runs. */
  readonly packages: readonly OptionalPackage[];
  /** Packages that are built in, with their licences. */
  readonly builtIn: readonly BuiltIn[];
  /** Files of the project that are built in. */
  readonly inputs: readonly string[];
  /** Files that must not be overwritten. */
  readonly from: readonly string[];
}

/**
 * Puts targets into one file: their packages are built in, and what their sources read (types, documents) is read now and carried along.
 *
 * @throws JexoError JEXO_PACK, JEXO_TARGET_UNKNOWN, JEXO_NOTHING_OFFERED, and all that opening the targets may throw
 */
export async function bundle(targets: readonly Target[], options: BundleOptions): Promise<Bundle> {
  const found = await findKinds(targets, options.kinds);
  const shown = targets.map(String).join(', ');
  const isChosenWithin = found.length === 1 && found[0]!.kind.choosesItself === true;
  const { name, choice = {}, kinds, entry = 'run' } = options;
  const how = howToOpen(found, options);
  const packables: Packable[] = [];
  for (const each of found) packables.push(await packableOf(each, isChosenWithin ? how : { ...how, choice: {} }));
  // The sources are frozen as the targets describe them; what is chosen among them is chosen again where it runs.
  const opened = await Promise.all(
    targets.map((target) =>
      openTargets([target], {
        options: optionsFor(target, found, how.options),
        ...(isChosenWithin && { choice }),
        ...(kinds && { kinds }),
      }),
    ),
  );
  const servers = opened.map(({ server }) => server);
  try {
    const chosen = together(servers, name, isChosenWithin ? {} : choice, shown);
    const catalogue = await chosen.catalogue();
    const { tools, resources, templates, prompts, settings } = catalogue;
    if (tools.size + resources.size + templates.size + prompts.size === 0)
      throw new JexoError('JEXO_NOTHING_OFFERED', `${shown} offers nothing, so there is nothing to pack.`, { where: shown });
    const frozen = await Promise.all(servers.map(freezeServer));
    const packed = packables.map((each) => each.name).join('-');
    const code = entryOf(packables.length, frozen, { name, choice: isChosenWithin ? {} : choice, shown: packed }, entry);
    const built = await build(packables, code, options);
    const base = dirname(packables[0]!.from);
    const inputs = Object.keys(built.metafile.inputs);
    return {
      name: packed,
      code: `${built.outputFiles.find(({ path }) => !path.endsWith('.map'))!.text}${licences(packagesOf(inputs, base))}`,
      map: built.outputFiles.find(({ path }) => path.endsWith('.map'))?.text,
      info: chosen.info,
      catalogue,
      settings: needed(
        packables.flatMap((each) => each.settings ?? []),
        settings,
      ),
      beside: packables.flatMap((each) => each.beside ?? []),
      packages: [...new Set(packables.flatMap((each) => each.packages ?? []))],
      builtIn: packagesOf(inputs, base),
      inputs: inputs
        .filter((input) => !input.includes('node_modules') && !/^[\w-]+:/.test(input) && input !== '<stdin>')
        .map((input) => (isAbsolute(input) ? input : join(base, input)))
        .filter((input) => relative(dirname(packageFile('package.json')), input).startsWith('..')),
      from: packables.map((each) => each.from),
    };
  } finally {
    await Promise.all(servers.map((server) => server.close()));
  }
}

async function packableOf({ target, kind, options }: Found, how: Parameters<NonNullable<Found['kind']['pack']>>[1]): Promise<Packable> {
  if (kind.pack === undefined)
    throw new JexoError('JEXO_TARGET_UNKNOWN', `${String(target)} is ${kind.noun}, which cannot be packed.`, {
      where: String(target),
      next: 'Give a module, an installed package, a document, a database, a folder or a plan file.',
    });
  return kind.pack(target, options === undefined ? how : { ...how, options: { ...how.options, ...options } });
}

/** Of the options for all targets, those that this one's kind takes. */
function optionsFor(target: Target, found: readonly Found[], options: Readonly<Record<string, unknown>>): Record<string, unknown> {
  const own = found.find((each) => each.target === target)!;
  const known = new Set((own.kind.options ?? []).map(({ name }) => name));
  return { ...Object.fromEntries(Object.entries(options).filter(([name]) => known.has(name))), ...own.options };
}

/** What a pack itself reads stands in for what its target read here. */
const needed = (own: readonly NeededSetting[], found: readonly NeededSetting[]): readonly NeededSetting[] => [
  ...new Map([...own, ...found].map((each) => [each.variable, each])).values(),
];

interface After {
  readonly name: string | undefined;
  readonly choice: object;
  readonly shown: string;
}

const partSpecifier = 'jexo-part:';

function entryOf(count: number, frozen: readonly unknown[], { name, choice, shown }: After, entry: BundleOptions['entry']): string {
  const [givenName, givenChoice, givenShown] = [name ?? null, choice, shown].map((each) => JSON.stringify(each));
  const library = JSON.stringify(libraryOf(entry === 'fetch'));
  const parts = Array.from({ length: count }, (_, index) => `import part${index} from '${partSpecifier}${index}';`);
  const thawed = frozen.map((each, index) => `thawServer(part${index}, ${JSON.stringify(each)})`);
  const ends = {
    run: 'await runPacked(server);',
    import: 'export { server };\nexport const run = () => runPacked(server);',
    fetch: 'const { fetch, handler } = answerRequests(server);\nexport { fetch, handler };\nexport default { fetch };',
  };
  return `${parts.join('\n')}
import { thawServer, together, ${entry === 'fetch' ? 'answerRequests' : 'runPacked'} } from ${library};
const server = together([${thawed.join(', ')}], ${givenName} ?? undefined, ${givenChoice}, ${givenShown});
${ends[entry ?? 'run']}
`;
}

/** What packs for hosts of functions are built from comes compressed. */
const fetchLibrary = 'jexo-packed-fetch';
const libraryOf = (isFetch: boolean) => (isFetch ? fetchLibrary : packageFile('dist/packed.mjs'));

const fetchLibraryPlugin: Plugin = {
  name: 'fetch-library',
  setup({ onResolve, onLoad }) {
    onResolve({ filter: new RegExp(`^(?:jexo|${fetchLibrary})$`) }, () => ({
      path: fetchLibrary,
      namespace: fetchLibrary,
      sideEffects: false,
    }));
    onLoad({ filter: /.*/, namespace: fetchLibrary }, () => ({ contents: packageText('dist/packed-fetch.mjs'), loader: 'js' }));
  },
};

const libraryNames = 'bearer, defineServer, env, wrapDatabase, wrapFolder, wrapFunctions, wrapGraphql, wrapRest, wrapTopics';

/** Each target is a module of its own, so that their names do not meet. */
function partsPlugin(packables: readonly Packable[], isFetch: boolean): Plugin {
  return {
    name: 'parts',
    setup({ onResolve, onLoad }) {
      onResolve({ filter: new RegExp(`^${partSpecifier}`) }, ({ path }) => ({ path, namespace: 'part' }));
      onResolve({ filter: /.*/, namespace: 'part' }, ({ path, importer }) => {
        const own = packables[Number(importer.slice(partSpecifier.length))]?.modules ?? {};
        return Object.hasOwn(own, path) ? { path: `${importer.slice(partSpecifier.length)} ${path}`, namespace: 'made' } : undefined;
      });
      onLoad({ filter: /.*/, namespace: 'part' }, ({ path }) => {
        const { imports, server, from } = packables[Number(path.slice(partSpecifier.length))]!;
        const names = isFetch ? libraryNames.replace('wrapDatabase, wrapFolder, ', '').replace(', wrapTopics', '') : libraryNames;
        const library = JSON.stringify(libraryOf(isFetch));
        return {
          contents: `${imports}\nimport { ${names} } from ${library};\nexport default ${server};`,
          resolveDir: dirname(from),
          loader: 'js',
        };
      });
      onLoad({ filter: /.*/, namespace: 'made' }, ({ path }) => {
        const [index, specifier] = path.split(' ') as [string, string];
        const { modules, from } = packables[Number(index)]!;
        return { contents: modules![specifier]!, resolveDir: dirname(from), loader: 'ts' };
      });
    },
  };
}

/**
 * Folds up parts of the library that most servers never load: each travels as compressed text, and is unfolded when it is first imported.
 * So they cost nothing at the start, and little room.
 */
function foldPlugin(esbuild: typeof import('esbuild')): Plugin {
  const folder = dirname(packageFile('dist/packed.mjs'));
  const folded = new Set(JSON.parse(readFileSync(packageFile('dist/folded.json'), 'utf8')) as string[]);
  return {
    name: 'fold',
    setup({ onResolve, onLoad }) {
      onResolve({ filter: /^\.\// }, ({ path, kind, resolveDir }) =>
        kind === 'dynamic-import' && resolveDir === folder && folded.has(basename(path))
          ? { path: join(folder, path), namespace: 'folded' }
          : undefined,
      );
      onLoad({ filter: /.*/, namespace: 'folded' }, async ({ path }) => {
        const { outputFiles } = await esbuild.build({
          entryPoints: [path],
          bundle: true,
          write: false,
          format: 'esm',
          platform: 'node',
          target: 'node20',
          minify: true,
          legalComments: 'none',
          logLevel: 'silent',
          // What is unfolded has no place on a disk.
          define: { 'import.meta.url': '"file:///folded.mjs"' },
        });
        const text = brotliCompressSync(outputFiles[0]!.contents).toString('base64');
        const names = Object.keys((await import(pathToFileURL(path).href)) as object);
        const exported = names.map((name) =>
          name === 'default' ? 'export default unfolded.default;' : `export const ${name} = unfolded[${JSON.stringify(name)}];`,
        );
        return {
          contents: `const { brotliDecompressSync } = await import('node:zlib');
const text = brotliDecompressSync(Buffer.from(${JSON.stringify(text)}, 'base64')).toString('base64');
const unfolded = await import(\`data:text/javascript;base64,\${text}\`);
${exported.join('\n')}`,
          loader: 'js',
        };
      });
    },
  };
}

/** Loaded at every start anyway, or needed to load the others. */
const atOnce = new Set(['module', 'process', 'events', 'stream', 'buffer', 'async_hooks', 'worker_threads']);

/** Modules of Node that the library uses are loaded with their first call: an import would load them at the start. */
const lateNode: Plugin = {
  name: 'late-node',
  setup({ onResolve, onLoad }) {
    const folder = dirname(packageFile('dist/packed.mjs'));
    onResolve({ filter: /^(?:node:)?[a-z_]+(?:\/[a-z]+)?$/ }, ({ path, kind, importer }) => {
      const name = path.replace(/^node:/, '');
      const isOurs = kind === 'import-statement' && dirname(importer) === folder;
      return isOurs && isBuiltin(name) && !atOnce.has(name) ? { path: name, namespace: 'late-node', sideEffects: false } : undefined;
    });
    onLoad({ filter: /.*/, namespace: 'late-node' }, async ({ path }) => {
      const found = (await import(`node:${path}`)) as Record<string, unknown>;
      const module = `require(${JSON.stringify(`node:${path}`)})`;
      const lines = Object.entries(found).flatMap(([name, value]) => {
        if (name === 'default' || !/^[A-Za-z_$][\w$]*$/.test(name)) return [];
        // Classes and values cannot be stood in for; what nobody uses is dropped.
        return typeof value === 'function' && /^[a-z]/.test(name)
          ? [`export const ${name} = (...given) => ${module}.${name}(...given);`]
          : [`export const ${name} = /* @__PURE__ */ (() => ${module}.${name})();`];
      });
      return { contents: `${lines.join('\n')}\nexport default /* @__PURE__ */ (() => ${module})();`, loader: 'js' };
    });
  },
};

async function build(
  packables: readonly Packable[],
  entry: string,
  { entry: form = 'run', sourceMap = false }: BundleOptions,
): Promise<BuildResult<{ metafile: true; write: false }>> {
  const esbuild = await loadBundler('Packing');
  const [{ from }] = packables as [Packable];
  const forNode: BuildOptions = {
    platform: 'node',
    target: 'node20',
    external: ['esbuild', 'libsql', 'pg', 'mysql2'],
    alias: { jexo: packageFile('dist/index.mjs') },
    banner: {
      js: `${form === 'run' ? '#!/usr/bin/env node\n' : ''}import { createRequire as __createRequireForPack } from 'node:module'; const require = __createRequireForPack(import.meta.url);`,
    },
  };
  const forWeb: BuildOptions = {
    platform: 'browser',
    target: 'es2022',
    conditions: ['worker', 'browser'],
    define: { 'process.env.NODE_ENV': '"production"', 'import.meta.url': '"file:///packed.mjs"' },
  };
  try {
    return await esbuild.build({
      stdin: { contents: entry, resolveDir: dirname(from), sourcefile: 'entry.mjs', loader: 'js' },
      bundle: true,
      write: false,
      metafile: true,
      absWorkingDir: dirname(from),
      outfile: 'packed.mjs',
      format: 'esm',
      minify: true,
      lineLimit: 160,
      legalComments: 'inline',
      logLevel: 'silent',
      ...(sourceMap && { sourcemap: 'external' as const, sourcesContent: true }),
      plugins: [partsPlugin(packables, form === 'fetch'), ...(form === 'fetch' ? [fetchLibraryPlugin] : [foldPlugin(esbuild), lateNode])],
      ...(form === 'fetch' ? forWeb : forNode),
    });
  } catch (error) {
    throw describe(error, from, form);
  }
}

/** The licences of all that is built in, as a comment at the end of the file. */
function licences(packages: readonly BuiltIn[]): string {
  return `\n/*\n${licenceText(packages).replaceAll('*/', '* /').trim()}\n*/\n`;
}

/** The licences of Jexo and of all that is built in, in Markdown. */
export function licenceText(packages: readonly BuiltIn[]): string {
  // Jexo's own list stands for all that is built into Jexo. Where Jexo is installed as a link it is no package of node_modules.
  const others = packages.filter(({ name }) => name !== 'jexo');
  const own = packageFile('dist/library-licences.md');
  const jexo = `${readFileSync(packageFile('LICENSE'), 'utf8').trim()}\n\n${readFileSync(own, 'utf8').trim()}`;
  return `# Licences of what is built into this file\n\n## jexo\n\n${jexo}\n\n${noticesOf(others)}`;
}

function describe(error: unknown, from: string, form: string): JexoError {
  const [first] = (error as BuildFailure).errors ?? [];
  const { location } = first ?? {};
  const where = location == null ? from : `${location.file}:${location.line}:${location.column + 1}`;
  const native = first?.text.includes('.node') ?? false;
  const needsNode =
    form === 'fetch' &&
    /node:|Could not resolve "(?:fs|path|os|crypto|http|https|net|child_process|stream|url|util)/.test(first?.text ?? '');
  return new JexoError('JEXO_PACK', `The module cannot be put into one file: ${first?.text ?? messageOf(error)}`, {
    where,
    cause: error,
    ...(native && {
      next: 'A package with compiled parts cannot travel in one file. Exclude it, or install it where the server will run.',
    }),
    ...(needsNode && {
      next: 'Hosts of functions have no modules of Node. Pack it as a package or a container, or do without this module.',
    }),
  });
}
