import { basename } from 'node:path';
import { fileURLToPath } from 'node:url';
import { watch as watchFiles, type FSWatcher } from 'chokidar';
import type { Offer } from '../../offers/offer.js';
import { resource, template } from '../../offers/resource.js';
import type { Source, SourceContents } from '../../offers/source.js';
import { folderIndex, type FolderIndex } from './folder-index.js';
import { folderTools } from './folder-tools.js';
import { partsOf, uriOf } from './folder-uri.js';
import { mimeTypeOf, isText } from './mime-types.js';
import { openInside } from './safe-path.js';
import { realFolder, scanFolder, type FolderFile, type ScanOptions } from './scan-folder.js';
import { sectionsOf } from './sections.js';

/** What `wrapFolder` offers of a folder. */
export interface WrapFolderOptions extends ScanOptions {
  /** Stands in the URIs and in the names of the tools. Default: the folder's own name. */
  readonly name?: string;
  /** Offers tools that search its documents and read sections of them. Default false; the target offers them. */
  readonly search?: boolean;
  /** What the folder is about, in a sentence: it stands in the description of the search tool. Default: the first paragraph of its README. */
  readonly about?: string;
}

/** A folder that was read: its files, and the index of its documents. */
export interface FolderState {
  readonly root: string;
  readonly scheme: string;
  files: readonly FolderFile[];
  readonly index: FolderIndex;
  /** Called after every read, for those who watch a file. */
  readonly looking: Set<() => void>;
}

const mostIndexedBytes = 2 * 1024 * 1024;

/**
 * Offers the files of a folder as resources, and with `search: true` tools that find and read sections of its documents.
 * Nothing outside the folder is read, whatever a URI says.
 *
 * @throws when it is read: JexoError JEXO_TARGET_MISSING
 * @example
 * wrapFolder('./handbook', { search: true, about: 'How the cooperative keeps its bees.' })
 */
export function wrapFolder(path: string | URL, options: WrapFolderOptions = {}): Source {
  const folder = path instanceof URL ? fileURLToPath(path) : path;
  const name = options.name ?? (basename(folder.replace(/[\\/]+$/, '')) || 'folder');
  let state: FolderState | undefined;
  const read = async (signal: AbortSignal, progress: (done: number, total: number, what: string) => void): Promise<SourceContents> => {
    const root = await realFolder(folder);
    const { files, passed } = await scanFolder(root, options, signal);
    state = state?.root === root ? state : { root, scheme: schemeOf(name), files, index: folderIndex(), looking: new Set() };
    state.files = files;
    if (options.search) await indexAll(state, signal, progress);
    const about = options.about ?? (options.search ? await aboutOf(state) : undefined);
    const tools = options.search ? folderTools(state, slugOf(name), about) : [];
    for (const look of state.looking) look();
    return { offers: [...tools, ...fileOffers(state, name)], files: [], notes: notesOn(name, files.length, passed) };
  };
  return {
    name,
    read: ({ signal, progress }) => read(signal, progress),
    watch(changed) {
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
    },
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

function fileOffers(state: FolderState, name: string): Offer[] {
  const { scheme } = state;
  const find = (path: string) => state.files.find((file) => file.path === path);
  const watch = (path: string) => (changed: () => void) => {
    let before = find(path)?.modified.getTime();
    const look = () => {
      const now = find(path)?.modified.getTime();
      if (now !== before) changed();
      before = now;
    };
    state.looking.add(look);
    return () => void state.looking.delete(look);
  };
  const read = async (uri: string) => {
    const { path, anchor } = partsOf(uri, scheme);
    const file = find(path);
    if (file === undefined) return undefined;
    if (anchor === '') return readWhole(state.root, file, uri);
    const found = state.index.section(path, anchor);
    return found && { uri, mimeType: 'text/markdown', text: found.all[found.at]!.text };
  };
  return [
    ...state.files.map(({ path, size, modified }) =>
      resource(
        uriOf(scheme, path),
        { name: path, mimeType: mimeTypeOf(path), size, annotations: { lastModified: modified.toISOString() }, watch: watch(path) },
        ({ uri }) => read(uri),
      ),
    ),
    template(
      `${scheme}://{+path}`,
      {
        name: `files of ${name}`,
        description: `A file of the folder ${name} by its path; a section of a document behind #.`,
        complete: { path: () => state.files.map(({ path }) => path) },
        watch: (changed, uri) => watch(partsOf(uri, scheme).path)(changed),
      },
      (_variables, _call, { uri }) => read(uri),
    ),
  ];
}

/** The bytes of a file of the folder, as it was scanned; undefined when it is not there any more, or has got a name elsewhere. */
async function bytesOf(root: string, { path, links }: FolderFile): Promise<Buffer | undefined> {
  const opened = await openInside(root, path);
  if (opened === undefined) return undefined;
  try {
    return opened.links > links ? undefined : await opened.handle.readFile();
  } finally {
    await opened.handle.close();
  }
}

async function readWhole(root: string, file: FolderFile, uri: string) {
  const bytes = await bytesOf(root, file);
  if (bytes === undefined) return undefined;
  const mimeType = mimeTypeOf(file.path);
  return isText(bytes) ? { uri, mimeType, text: bytes.toString('utf8') } : { uri, mimeType, blob: bytes.toString('base64') };
}

/** Files that are documents: they are taken apart and searched. */
const documents = /\.(?:md|markdown|mdx|txt|html?|rst|adoc|[cm]?[jt]sx?|py|sql|json|ya?ml|toml|csv|css)$/i;

async function indexAll(
  state: FolderState,
  signal: AbortSignal,
  progress: (done: number, total: number, what: string) => void,
): Promise<void> {
  const wanted = state.files.filter(({ path, size }) => documents.test(path) && size <= mostIndexedBytes);
  const paths = new Set(wanted.map(({ path }) => path));
  const known = indexed.get(state.index) ?? new Map<string, number>();
  indexed.set(state.index, known);
  for (const path of known.keys())
    if (!paths.has(path)) {
      state.index.remove(path);
      known.delete(path);
    }
  for (const [done, file] of wanted.entries()) {
    const { path, modified } = file;
    if (known.get(path) === modified.getTime()) continue;
    signal.throwIfAborted();
    const bytes = await bytesOf(state.root, file);
    if (bytes === undefined) continue;
    if (isText(bytes)) state.index.put(path, sectionsOf(path, bytes.toString('utf8')));
    known.set(path, modified.getTime());
    if (done % 100 === 0) progress(done, wanted.length, path);
  }
}

/** When each file was changed that an index holds. */
const indexed = new WeakMap<FolderIndex, Map<string, number>>();

/** The first paragraph of the folder's README. */
async function aboutOf({ root, files }: FolderState): Promise<string | undefined> {
  const readme = files.find(({ path }) => /^(?:readme|index)\.(?:md|txt)$/i.test(path));
  if (readme === undefined) return undefined;
  const text = (await bytesOf(root, readme))?.toString('utf8');
  const paragraph = text?.split(/\n\s*\n/).find((each) => !/^\s*(?:#|---|<|!\[|\||```)/.test(each) && each.trim().length > 20);
  return paragraph?.replaceAll(/\s+/g, ' ').trim().slice(0, 300);
}
