import { readFileSync } from 'node:fs';
import { dirname, join, resolve } from 'node:path';
import type { BuildFailure } from 'esbuild';
import { JexoError, messageOf } from '../errors.js';
import { freezeServer } from '../offers/thaw.js';
import { together } from '../offers/together.js';
import type { NeededSetting, Omission } from '../offers/source.js';
import { packageFile } from '../own-package.js';
import { loadBundler } from '../targets/bundler.js';
import { findKind } from '../targets/find-kind.js';
import { howToOpen, openTargets, type OpenOptions } from '../targets/open-targets.js';
import type { Packable, Target } from '../targets/target-kind.js';
import { noticesOf, packagesOf, type BuiltIn } from './notices.js';
import { writeBundle } from './write-bundle.js';

export interface BundleOptions extends Pick<OpenOptions, 'name' | 'choice' | 'options' | 'kinds'> {
  /** Folder to write into; it is made when it is not there. */
  readonly out: string;
  /** True puts it in the place of a file of that name; otherwise nothing is overwritten. */
  readonly replace?: boolean;
}

export interface Bundle {
  readonly file: string;
  readonly bytes: number;
  readonly server: { readonly name: string; readonly title?: string; readonly version: string };
  readonly tools: readonly string[];
  readonly omitted: readonly Omission[];
  /** Variables of the environment that it needs where it runs. */
  readonly settings: readonly NeededSetting[];
}

/**
 * Writes a target as one file that serves itself with nothing but Node: its packages are built in, and what its sources
 * read (types, documents) is read now and carried along.
 *
 * @throws JexoError JEXO_PACK, JEXO_TARGET_UNKNOWN, and all that opening the target may throw
 */
export async function packBundle(target: Target, options: BundleOptions): Promise<Bundle> {
  const found = await findKind(target, options.kinds);
  const shown = String(target);
  if (found.kind.pack === undefined)
    throw new JexoError('JEXO_TARGET_UNKNOWN', `${shown} is ${found.kind.noun}, which cannot be packed.`, {
      where: shown,
      next: 'Give a module, an installed package, an OpenAPI document or a database.',
    });
  const isChosenWithin = found.kind.choosesItself === true;
  const { name, choice = {}, kinds } = options;
  const how = howToOpen([found], options);
  const packable = await found.kind.pack(target, isChosenWithin ? how : { ...how, choice: {} });
  // The sources are frozen as the target describes them; what is chosen among them is chosen again where it runs.
  const { server } = await openTargets([target], {
    options: how.options,
    ...(isChosenWithin && { choice }),
    ...(kinds && { kinds }),
  });
  try {
    const chosen = together([server], name, isChosenWithin ? {} : choice, shown);
    const { tools, omitted, settings } = await chosen.catalogue();
    if (tools.size === 0)
      throw new JexoError('JEXO_NOTHING_OFFERED', `${shown} offers no tool, so there is nothing to pack.`, { where: shown });
    const after = { name, choice: isChosenWithin ? {} : choice, shown: packable.name };
    const code = await build(packable, entryOf(packable, await freezeServer(server), after));
    const written = writeBundle(join(resolve(options.out), `${packable.name}.mjs`), code, packable.from, options.replace ?? false);
    const { title, version } = chosen.info;
    const info = { name: chosen.info.name, ...(title !== undefined && { title }), version };
    return { ...written, server: info, tools: [...tools.keys()], omitted, settings: needed(packable.settings ?? [], settings) };
  } finally {
    await server.close();
  }
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

function entryOf({ imports, server }: Packable, frozen: unknown, { name, choice, shown }: After): string {
  const [givenName, givenChoice, givenShown] = [name ?? null, choice, shown].map((each) => JSON.stringify(each));
  return `
${imports}
import { bearer, defineServer, env, runPacked, thawServer, together, wrapDatabase, wrapFunctions, wrapGraphql, wrapRest, wrapTopics } from ${JSON.stringify(packageFile('dist/packed.mjs'))};
const server = thawServer(${server}, ${JSON.stringify(frozen)});
await runPacked(together([server], ${givenName} ?? undefined, ${givenChoice}, ${givenShown}));
`;
}

async function build({ from }: Packable, entry: string): Promise<string> {
  const esbuild = await loadBundler('Packing');
  let built;
  try {
    built = await esbuild.build({
      stdin: { contents: entry, resolveDir: dirname(from), sourcefile: 'entry.mjs', loader: 'js' },
      bundle: true,
      write: false,
      metafile: true,
      absWorkingDir: dirname(from),
      format: 'esm',
      platform: 'node',
      target: 'node20',
      minify: true,
      legalComments: 'inline',
      external: ['esbuild', 'libsql', 'pg', 'mysql2'],
      alias: { jexo: packageFile('dist/index.mjs') },
      banner: {
        js: "#!/usr/bin/env node\nimport { createRequire as __createRequireForPack } from 'node:module'; const require = __createRequireForPack(import.meta.url);",
      },
      logLevel: 'silent',
    });
  } catch (error) {
    throw describe(error, from);
  }
  return built.outputFiles[0]!.text + licences(packagesOf(Object.keys(built.metafile.inputs), dirname(from)));
}

/** The licences of all that is built in, as a comment at the end of the file. */
function licences(packages: readonly BuiltIn[]): string {
  // Jexo's own list stands for all that is built into Jexo. Where Jexo is installed as a link it is no package of node_modules.
  const others = packages.filter(({ name }) => name !== 'jexo');
  const own = packageFile('dist/library-licences.md');
  const jexo = `${readFileSync(packageFile('LICENSE'), 'utf8').trim()}\n\n${readFileSync(own, 'utf8').trim()}`;
  const text = `# Licences of what is built into this file\n\n## jexo\n\n${jexo}\n\n${noticesOf(others)}`;
  return `\n/*\n${text.replaceAll('*/', '* /').trim()}\n*/\n`;
}

function describe(error: unknown, from: string): JexoError {
  const [first] = (error as BuildFailure).errors ?? [];
  const { location } = first ?? {};
  const where = location == null ? from : `${location.file}:${location.line}:${location.column + 1}`;
  const native = first?.text.includes('.node') ?? false;
  return new JexoError('JEXO_PACK', `The module cannot be put into one file: ${first?.text ?? messageOf(error)}`, {
    where,
    cause: error,
    ...(native && {
      next: 'A package with compiled parts cannot travel in one file. Exclude it, or install it where the server will run.',
    }),
  });
}
