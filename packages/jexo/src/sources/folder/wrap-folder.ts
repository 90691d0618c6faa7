import { kindOf } from '../../engine/servable.js';
import { basename } from 'node:path';
import { fileURLToPath } from 'node:url';
import { watch as watchFiles, type FSWatcher } from 'chokidar';
import { JexoError } from '../../errors.js';
import type { ReadContext, Source, SourceContents } from '../../offers/source.js';
import { indexBuilder, type Embed, type IndexBuilder } from './build-index.js';
import { chooseIndex, type ChosenIndex } from './choose-index.js';
import { readDocument } from './documents.js';
import { bytesOf, fileOffers, linesOf, type FolderState } from './file-offers.js';
import { folderTools } from './folder-tools.js';
import { folderSearch } from './search-folder.js';
import { realFolder, scanFolder, type ScanOptions } from './scan-folder.js';

/** What `wrapFolder` offers of a folder. */
export interface WrapFolderOptions extends ScanOptions {
  /** Stands in the URIs and in the names of the tools. Default: the folder's own name. */
  readonly name?: string;
  /** Offers tools that search its documents and read sections of them. Default false; the target offers them. */
  readonly search?: boolean;
  /** What the folder is about, in a sentence: it stands in the description of the search tool. Default: the first paragraph of its README. */
  readonly about?: string;
  /**
   * Where the index of its documents is kept: `memory`, `disk` (in the user's cache folder; needs the package `libsql`), or a file of
   * that name. Default: in memory for a small folder without `embed`, on disk otherwise if `libsql` is installed.
   */
  readonly index?: 'memory' | 'disk' | (string & {});
  /**
   * Turns texts into vectors, so that sections are found by meaning too. It is given up to 32 texts at once, and each text only once
   * as long as the index lives.
   */
  readonly embed?: Embed;
  /** Bytes of a file that are read at once; more is read in parts, by `?bytes=` or `?lines=`. Default 4 MB. */
  readonly maxReadBytes?: number;
}

interface Opened {
  readonly state: FolderState;
  readonly builder: IndexBuilder | undefined;
  readonly chosen: ChosenIndex | undefined;
}

const wholeIndexMs = 600_000;

/**
 * Offers the files of a folder as resources, and with `search: true` tools that find and read sections of its documents.
 * Nothing outside the folder is read, whatever a URI says.
 *
 * @throws when it is read: JexoError JEXO_TARGET_MISSING, or JEXO_PACKAGE_MISSING for an index on disk without `libsql`
 * @example
 * wrapFolder('./handbook', { search: true, about: 'How the cooperative keeps its bees.' })
 */
export function wrapFolder(path: string | URL, options: WrapFolderOptions = {}): Source {
  const folder = folderPath(path);
  const name = options.name ?? (basename(folder.replace(/[\\/]+$/, '')) || 'folder');
  const watching = new Set<() => void>();
  let opened: Opened | undefined;
  let told = '';
  const close = async () => {
    const before = opened;
    opened = undefined;
    await before?.builder?.close();
  };
  const open = (root: string, files: FolderState['files']): Opened => {
    const base = {
      root,
      scheme: schemeOf(name),
      files,
      looking: new Set<() => void>(),
      maxReadBytes: options.maxReadBytes ?? 4 * 1024 * 1024,
    };
    if (!options.search) return { state: { ...base, search: undefined }, builder: undefined, chosen: undefined };
    const chosen = chooseIndex(options.index, { root, slug: slugOf(name), options, files, embeds: options.embed !== undefined });
    const builder = indexBuilder({
      open: chosen.open,
      discard: chosen.discard,
      ...(options.embed && { embed: options.embed }),
      async load(file) {
        const bytes = await bytesOf(root, file);
        return bytes && readDocument(file, bytes);
      },
      // The names in front matter are part of the tool's description: they are known once the documents were read.
      async onDone() {
        if (JSON.stringify(await matterOf(builder)) !== told) for (const each of watching) each();
      },
    });
    return { state: { ...base, search: folderSearch(builder, options.embed) }, builder, chosen };
  };
  const read = async ({ signal, progress }: ReadContext): Promise<SourceContents> => {
    const root = await realFolder(folder);
    const { files, passed } = await scanFolder(root, options, signal);
    if (opened !== undefined && opened.state.root !== root) await close();
    opened ??= open(root, files);
    const { state, builder, chosen } = opened;
    state.files = files;
    for (const look of state.looking) look();
    if (builder === undefined || chosen === undefined)
      return { offers: fileOffers(state, name), files: [], notes: notesOn(name, files.length, passed) };
    await builder.index().catch((error: unknown) => {
      if (error instanceof JexoError) throw error; // anything else is tried again while the index is built, and reported
    });
    builder.update(files);
    await builder.settled(chosen.isInMemory ? wholeIndexMs : 0, signal, ({ done, total }) => progress(done, total, 'building the index'));
    const matter = await matterOf(builder);
    told = JSON.stringify(matter);
    const tools = folderTools({
      scheme: state.scheme,
      name: slugOf(name),
      about: options.about ?? (await aboutOf(state)),
      search: state.search!,
      matter,
      hasMeaning: options.embed !== undefined,
      part: (uri) => linesOf(state, uri),
    });
    const notes = [...notesOn(name, files.length, passed), ...(chosen.note === undefined ? [] : [chosen.note]), ...builder.faults];
    return { offers: [...tools, ...fileOffers(state, name)], files: [], notes };
  };
  return {
    name,
    read,
    close,
    watch(changed) {
      watching.add(changed);
      const stop = watchFolder(folder, changed);
      return () => {
        watching.delete(changed);
        stop();
      };
    },
  };
}

const matterOf = async (builder: IndexBuilder) => {
  try {
    return (await builder.index()).matter();
  } catch {
    return {}; // a damaged index is built again, and reported by the search
  }
};

function watchFolder(folder: string, changed: () => void): () => void {
  let timer: NodeJS.Timeout | undefined;
  const watcher: FSWatcher = watchFiles(folder, {
    ignoreInitial: true,
    followSymlinks: false,
    ignored: /(?:^|[\\/])(?:\.git|node_modules)(?:[\\/]|$)/,
  });
  watcher.on('all', () => {
    clearTimeout(timer);
    timer = setTimeout(changed, 50);
  });
  watcher.on('error', () => undefined); // a folder that is away is reported when it is read
  return () => {
    clearTimeout(timer);
    void watcher.close();
  };
}

const slugOf = (name: string) =>
  name
    .toLowerCase()
    .replaceAll(/[^a-z0-9]+/g, '_')
    .replaceAll(/^_+|_+$/g, '') || 'folder';
const schemeOf = (name: string) =>
  slugOf(name)
    .replaceAll('_', '-')
    .replace(/^(?![a-z])/, 'f-');

function notesOn(name: string, count: number, passed: Readonly<Record<string, number>>): string[] {
  const told = Object.entries(passed).filter(([why]) => why !== 'ignored' && why !== 'excluded');
  const rest = told.length === 0 ? '' : `; passed over: ${told.map(([why, number]) => `${number} ${why}`).join(', ')}`;
  return [`${name}: ${count.toLocaleString('en')} files${rest}.`];
}

/** The first paragraph of the folder's README. */
async function aboutOf({ root, files }: FolderState): Promise<string | undefined> {
  const readme = files.find(({ path }) => /^(?:readme|index)\.(?:md|txt)$/i.test(path));
  if (readme === undefined) return undefined;
  const text = (await bytesOf(root, readme))?.toString('utf8');
  const paragraph = text?.split(/\n\s*\n/).find((each) => !/^\s*(?:#|---|<|!\[|\||```)/.test(each) && each.trim().length > 20);
  return paragraph?.replaceAll(/\s+/g, ' ').trim().slice(0, 300);
}

/** @throws JexoError JEXO_DEFINITION for what is no path */
function folderPath(path: string | URL): string {
  if (!(path instanceof URL) && (typeof path !== 'string' || path === ''))
    throw new JexoError(
      'JEXO_DEFINITION',
      `wrapFolder needs the path of a folder; ${path === '' ? 'an empty text' : kindOf(path)} was given.`,
      {
        where: 'wrapFolder',
      },
    );
  return path instanceof URL ? fileURLToPath(path) : path;
}
