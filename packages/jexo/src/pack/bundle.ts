import { lstatSync, mkdirSync, readFileSync, renameSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { basename, dirname, extname, join, resolve } from 'node:path';
import { pathToFileURL } from 'node:url';
import type { BuildFailure } from 'esbuild';
import { JexoError, messageOf } from '../errors.js';
import { offers, type Choice } from '../offers/choose.js';
import { defineServer, isServer, type Server } from '../offers/define-server.js';
import type { Omission } from '../offers/offer.js';
import { recordDocuments, type FrozenDocuments } from '../sources/rest/frozen-documents.js';
import { readShapes } from '../sources/functions/frozen-shapes.js';
import { readCached } from '../sources/functions/shape-cache.js';
import { packageFile } from '../own-package.js';
import { openModule, openTarget, type OpenOptions } from '../targets/open-target.js';
import { parseTarget } from '../targets/target.js';
import { loadModule } from '../targets/load-module.js';

export interface BundleOptions {
  /** Folder to write into; it is made when it is not there. */
  readonly out: string;
  /** True puts it in the place of a file of that name; otherwise nothing is overwritten. */
  readonly replace?: boolean;
  /** The name the server gives itself. */
  readonly name?: string;
  /** Which offers are kept, and what they are called. */
  readonly choice?: Choice;
  /** For a document: where the API is, and how it is offered. */
  readonly rest?: OpenOptions['rest'];
}

export interface Bundle {
  readonly file: string;
  readonly bytes: number;
  readonly server: { readonly name: string; readonly version: string };
  readonly tools: readonly string[];
  readonly omitted: readonly Omission[];
}

/**
 * Writes a module, or an OpenAPI document, as one file that serves itself with nothing but Node: its packages are built in, its types
 * are read now, so that no compiler is needed then, and documents that are wrapped from files are carried along.
 *
 * @throws JexoError JEXO_PACK, and all that loading the module may throw
 */
export async function packBundle(path: string, options: BundleOptions): Promise<Bundle> {
  const file = resolve(path);
  const { choice = {}, rest = {} } = options;
  const isDocument = parseTarget(path).kind === 'document';
  const { result, documents } = await recordDocuments(async () => {
    const namespace = isDocument ? {} : (await loadModule(file)).namespace;
    const server = isDocument ? await openTarget(path, { choice, rest }) : chosenOf(openModule(path, namespace), choice);
    return { namespace, server, catalogue: await server.catalogue() };
  });
  const { namespace, server } = result;
  const { tools, omitted } = result.catalogue;
  if (tools.size === 0)
    throw new JexoError('JEXO_NOTHING_OFFERED', `${path} offers no tool, so there is nothing to pack.`, { where: path });
  const { title } = server.info;
  const info = { name: options.name ?? server.info.name, ...(title !== undefined && { title }), version: server.info.version };
  const entry = isDocument
    ? documentEntry(file, info, { ...rest, ...choice }, documents)
    : isServer(namespace.default)
      ? serverEntry(file, options.name, choice, documents)
      : await functionsEntry(file, info, choice);
  const code = await build(file, entry);
  const target = join(resolve(options.out), `${basename(file, extname(file))}.mjs`);
  if (target === file)
    throw new JexoError('JEXO_PACK', `Packing into ${options.out} would overwrite ${path} itself.`, {
      where: target,
      next: 'Choose another folder for --out.',
    });
  if (!options.replace && isThere(target))
    throw new JexoError('JEXO_PACK', `${target} is there already, and nothing is overwritten.`, {
      where: target,
      next: 'Put the new one in its place with --replace, or choose another folder.',
    });
  try {
    mkdirSync(dirname(target), { recursive: true });
    // Written beside and moved into place: a link that lies there is replaced, not followed.
    const beside = `${target}.${process.pid}.tmp`;
    rmSync(beside, { force: true });
    writeFileSync(beside, code, { mode: 0o755, flag: 'wx' });
    renameSync(beside, target);
    if (readFileSync(target, 'utf8') !== code) throw new Error('it does not hold what was written');
  } catch (error) {
    throw new JexoError('JEXO_PACK', `${target} cannot be written: ${messageOf(error)}`, { where: target, cause: error });
  }
  return { file: target, bytes: statSync(target).size, server: info, tools: [...tools.keys()], omitted };
}

function isThere(path: string): boolean {
  try {
    lstatSync(path);
    return true;
  } catch {
    return false;
  }
}

interface Info {
  readonly name: string;
  readonly title?: string;
  readonly version: string;
}

function chosenOf({ definition }: Server, choice: Choice): Server {
  return defineServer({ ...definition, offers: [offers(definition.offers, choice)] });
}

function documentEntry(file: string, info: Info, options: object, documents: FrozenDocuments): string {
  return `
import { freezeDocuments, runPacked } from ${JSON.stringify(packageFile('dist/packed.mjs'))};
import { defineServer, wrapRest } from ${JSON.stringify(packageFile('dist/index.mjs'))};
freezeDocuments(${JSON.stringify(documents)});
const document = new URL(${JSON.stringify(`./${basename(pathToFileURL(file).pathname)}`)}, import.meta.url);
await runPacked(defineServer({ ...${JSON.stringify(info)}, offers: [wrapRest(document, ${JSON.stringify(options)})] }));
`;
}

async function functionsEntry(file: string, info: Info, choice: Choice): Promise<string> {
  const { shape } = await readCached(file);
  return `
import * as module from ${JSON.stringify(file)};
import { defineServer, runPacked, wrapFunctions } from ${JSON.stringify(packageFile('dist/packed.mjs'))};
await runPacked(defineServer({ ...${JSON.stringify(info)}, offers: [wrapFunctions(module, { ...${JSON.stringify(choice)}, name: ${JSON.stringify(basename(file))}, shape: ${JSON.stringify(shape)} })] }));
`;
}

/** A server of its own may wrap modules by their types; what those gave is put where wrapFunctions looks first. */
function serverEntry(file: string, name: string | undefined, choice: Choice, documents: FrozenDocuments): string {
  const packed = JSON.stringify(packageFile('dist/packed.mjs'));
  const given = { ...(name !== undefined && { name }) };
  const chosen = Object.keys(choice).length > 0 ? `offers: [offers(server.definition.offers, ${JSON.stringify(choice)})]` : '';
  const rename =
    name === undefined && chosen === '' ? 'server' : `defineServer({ ...server.definition, ...${JSON.stringify(given)}, ${chosen} })`;
  return `
import { defineServer, freezeDocuments, freezeShapes, offers, runPacked } from ${packed};
freezeDocuments(${JSON.stringify(documents)});
freezeShapes(${JSON.stringify(readShapes())});
const { default: server } = await import(${JSON.stringify(file)});
await runPacked(${rename});
`;
}

async function build(file: string, entry: string): Promise<string> {
  const esbuild = await import('esbuild');
  try {
    const { outputFiles } = await esbuild.build({
      stdin: { contents: entry, resolveDir: dirname(file), sourcefile: 'entry.mjs', loader: 'js' },
      bundle: true,
      write: false,
      format: 'esm',
      platform: 'node',
      target: 'node20',
      minify: true,
      legalComments: 'inline',
      external: ['esbuild'],
      alias: { jexo: packageFile('dist/index.mjs') },
      banner: {
        js: "#!/usr/bin/env node\nimport { createRequire as __createRequireForPack } from 'node:module'; const require = __createRequireForPack(import.meta.url);",
      },
      logLevel: 'silent',
    });
    return outputFiles[0]!.text;
  } catch (error) {
    const [first] = (error as BuildFailure).errors ?? [];
    const where = first?.location == null ? file : `${first.location.file}:${first.location.line}:${first.location.column + 1}`;
    const native = first?.text.includes('.node') ?? false;
    throw new JexoError('JEXO_PACK', `The module cannot be put into one file: ${first?.text ?? messageOf(error)}`, {
      where,
      cause: error,
      ...(native && {
        next: 'A package with compiled parts cannot travel in one file. Leave it out, or install it where the server will run.',
      }),
    });
  }
}
