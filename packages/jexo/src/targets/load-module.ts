import { existsSync, readFileSync, statSync } from 'node:fs';
import { isBuiltin } from 'node:module';
import { dirname, extname, relative, resolve } from 'node:path';
import { pathToFileURL } from 'node:url';
import type { BuildFailure, Message, Plugin } from 'esbuild';
import { JexoError, messageOf } from '../errors.js';
import { packageFile } from '../own-package.js';
import { loadBundler } from './bundler.js';
import { compiledBefore, keepCompiled, type Compiled } from './compiled-modules.js';

export interface LoadedModule {
  readonly namespace: Readonly<Record<string, unknown>>;
  /** The module and every local file it is made of. */
  readonly files: readonly string[];
}

let freshOnes = 0;
const typed = new Set(['.ts', '.tsx', '.mts', '.cts', '.jsx']);

/**
 * Loads a module, with its types taken out when it has any. Its packages are loaded from where it stands.
 *
 * @param how.again loads a changed module again, with all its files; Node itself loads a file only once
 * @param how.fresh takes it with a state of its own, changed or not
 * @throws JexoError JEXO_TARGET_MISSING, JEXO_SYNTAX, JEXO_MODULE_FAILED
 */
export async function loadModule(
  path: string,
  { again = false, fresh = false }: { readonly again?: boolean; readonly fresh?: boolean } = {},
): Promise<LoadedModule> {
  const file = resolve(path);
  const shown = relative(process.cwd(), file) || file;
  if (!existsSync(file)) throw new JexoError('JEXO_TARGET_MISSING', `There is no file ${shown}.`, { where: shown });
  if (!statSync(file).isFile()) throw new JexoError('JEXO_TARGET_UNKNOWN', `${shown} is not a file.`, { where: shown });
  const compiled = again || fresh || typed.has(extname(file));
  const { entry, files } = compiled ? await compile(file) : { entry: pathToFileURL(file).href, files: [file] };
  try {
    return { namespace: (await import(fresh ? `${entry}?fresh=${++freshOnes}` : entry)) as Record<string, unknown>, files };
  } catch (error) {
    if (error instanceof SyntaxError && !compiled) await compile(file); // says where, when the mistake is in this file
    throw new JexoError('JEXO_MODULE_FAILED', `${shown} failed while it was loading: ${messageOf(error)}`, {
      where: firstPlace(error, dirname(file)) ?? shown,
      cause: error,
    });
  }
}

/**
 * Loads an installed package, looked for from the folder one is in.
 * @throws JexoError JEXO_TARGET_MISSING, JEXO_MODULE_FAILED
 */
export async function loadPackage(name: string): Promise<LoadedModule> {
  const { build } = await loadBundler(`Finding the package ${name}`);
  let found: string | undefined;
  const find: Plugin = {
    name: 'find-package',
    setup(setup) {
      setup.onResolve({ filter: /^/ }, async ({ path, pluginData, resolveDir }) => {
        if (pluginData === 'inner' || path !== name) return undefined;
        const resolved = await setup.resolve(path, { kind: 'import-statement', resolveDir, pluginData: 'inner' });
        if (resolved.errors.length === 0 && resolved.path !== '') found = resolved.path;
        return { path, external: true };
      });
    },
  };
  const contents = `import ${JSON.stringify(name)}`;
  await build({
    stdin: { contents, resolveDir: process.cwd() },
    bundle: true,
    write: false,
    platform: 'node',
    mainFields: ['module', 'main'],
    logLevel: 'silent',
    plugins: [find],
  });
  if (found === undefined)
    throw new JexoError('JEXO_TARGET_MISSING', `There is no file and no installed package called ${name}.`, {
      where: name,
      next: existsSync(`${name}.ts`) ? `Did you mean ${name}.ts?` : `Install it first: npm install ${name}`,
    });
  try {
    return { namespace: (await import(pathToFileURL(found).href)) as Record<string, unknown>, files: [found] };
  } catch (error) {
    throw new JexoError('JEXO_MODULE_FAILED', `The package ${name} failed while it was loading: ${messageOf(error)}`, {
      where: found,
      cause: error,
    });
  }
}

/** The first line of the stack that lies in the user's own files. */
function firstPlace(error: unknown, folder: string): string | undefined {
  const stack = error instanceof Error ? (error.stack ?? '') : '';
  for (const [, path, line, column] of stack.matchAll(/(?:file:\/\/)?(\/[^\s():]+|[A-Za-z]:\\[^\s():]+):(\d+):(\d+)/g)) {
    if (!path!.startsWith(folder) || path!.includes('node_modules')) continue;
    return `${relative(process.cwd(), path!)}:${line}:${column}`;
  }
  return undefined;
}

/** A module as it was compiled before, from files that have not changed since. */
async function compile(file: string): Promise<Compiled> {
  process.setSourceMapsEnabled(true);
  const known = compiledBefore(file);
  if (known !== undefined) return known;
  const { build } = await loadBundler(`Running ${relative(process.cwd(), file)}`);
  let result;
  try {
    result = await build({
      entryPoints: [file],
      bundle: true,
      write: false,
      metafile: true,
      format: 'esm',
      platform: 'node',
      target: 'node20',
      sourcemap: 'inline',
      outdir: dirname(file),
      sourceRoot: pathToFileURL(`${dirname(file)}/`).href,
      absWorkingDir: dirname(file),
      logLevel: 'silent',
      define: ownNames,
      plugins: [ownUrl, packagesByPlace],
    });
  } catch (error) {
    throw describe(error as BuildFailure, file);
  }
  const files = Object.keys(result.metafile.inputs).map((input) => resolve(dirname(file), input));
  const imports = Object.values(result.metafile.outputs).flatMap((output) => output.imports.map(({ path }) => path));
  return keepCompiled(file, result.outputFiles[0]!.text, files, imports);
}

function describe(failure: BuildFailure, file: string): JexoError {
  const first = failure.errors?.[0] as Message | undefined;
  if (first === undefined)
    return new JexoError('JEXO_MODULE_FAILED', `${file} could not be read: ${messageOf(failure)}`, { where: file, cause: failure });
  const { location, text } = first;
  const at =
    location === null ? file : `${relative(process.cwd(), resolve(dirname(file), location.file))}:${location.line}:${location.column + 1}`;
  const excerpt =
    location === null
      ? ''
      : `\n  ${location.line} | ${location.lineText}\n  ${' '.repeat(String(location.line).length)} | ${' '.repeat(location.column)}^`;
  const missing = text.startsWith('Could not resolve');
  return new JexoError(missing ? 'JEXO_MODULE_FAILED' : 'JEXO_SYNTAX', `${at}: ${text}${excerpt}`, {
    where: at,
    ...(missing && { next: 'Check the path of the import, or install the package it names.' }),
  });
}

/** What stands for a module's own place in the compiled file, which lies elsewhere: a constant of each module. */
const ownNames = {
  'import.meta.url': '__jexoUrl',
  'import.meta.dirname': '__jexoDirname',
  'import.meta.filename': '__jexoFilename',
};

/** `import.meta.url` keeps naming the source file, although the compiled one lies elsewhere. */
const ownUrl: Plugin = {
  name: 'own-url',
  setup(build) {
    build.onLoad({ filter: /\.[cm]?[jt]sx?$/ }, ({ path }) => {
      const text = readFileSync(path, 'utf8');
      const loader = extname(path).slice(1).replace(/^[cm]/, '') as 'ts' | 'tsx' | 'js' | 'jsx';
      if (!text.includes('import.meta')) return { contents: text, loader };
      const values = [pathToFileURL(path).href, dirname(path), path].map((value) => JSON.stringify(value));
      const own = `const __jexoUrl = ${values[0]}, __jexoDirname = ${values[1]}, __jexoFilename = ${values[2]}; `;
      // On the line that is there already, so that messages name the right one.
      const [hashbang = ''] = /^#!.*\n/.exec(text) ?? [];
      return { contents: hashbang + own + text.slice(hashbang.length), loader };
    });
  },
};

/** Packages are not compiled in: they are named by where they stand, so that the compiled file may lie anywhere. */
const packagesByPlace: Plugin = {
  name: 'packages-by-place',
  setup(build) {
    build.onResolve({ filter: /^[^./]/ }, async (args) => {
      if (args.kind === 'entry-point' || args.pluginData === 'inner' || isBuiltin(args.path) || /^[A-Za-z]:[\\/]/.test(args.path))
        return undefined;
      const found = await build.resolve(args.path, {
        kind: args.kind,
        importer: args.importer,
        resolveDir: args.resolveDir,
        pluginData: 'inner',
      });
      if (found.errors.length === 0 && found.path !== '') {
        // A path alias of the project leads to a source file of its own, which is compiled in.
        return found.path.includes('node_modules') || !typed.has(extname(found.path))
          ? { path: pathToFileURL(found.path).href, external: true }
          : found;
      }
      // This package itself, for a module that imports it where it is not installed.
      if (args.path === 'jexo') return { path: pathToFileURL(packageFile('dist/index.mjs')).href, external: true };
      return { errors: found.errors };
    });
  },
};
