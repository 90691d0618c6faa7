import { JexoError } from '../../errors.js';
import type { Offer } from '../../offers/offer.js';
import { resource, template } from '../../offers/resource.js';
import type { FolderSearch } from './search-folder.js';
import { partsOf, uriOf, type FilePart } from './folder-uri.js';
import { isText, mimeTypeOf } from './mime-types.js';
import { readPart } from './read-part.js';
import { openInside } from './safe-path.js';
import type { FolderFile } from './scan-folder.js';

/** A folder that was read. */
export interface FolderState {
  readonly root: string;
  readonly scheme: string;
  files: readonly FolderFile[];
  /** Called after every read, for those who watch a file. */
  readonly looking: Set<() => void>;
  /** Bytes of a file that are read at once. */
  readonly maxReadBytes: number;
  readonly search: FolderSearch | undefined;
}

/** The files of a folder as resources, and a template for all of them, their sections and parts. */
export function fileOffers(state: FolderState, name: string): Offer[] {
  const { scheme, search } = state;
  const find = finder(state);
  const watch = (path: string) => (changed: () => void) => {
    const stamp = () => find(path)?.modified.getTime();
    let before = stamp();
    const look = () => {
      const now = stamp();
      if (now !== before) changed();
      before = now;
    };
    state.looking.add(look);
    return () => void state.looking.delete(look);
  };
  const read = async (uri: string) => {
    const { path, anchor, part } = partsOf(uri, scheme);
    const file = find(path);
    if (file === undefined) return undefined;
    if (part !== undefined) return contentsOf(await partOf(state, file, part), uri);
    if (anchor === '') return readWhole(state, file, uri);
    const found = (await search?.sections(path))?.find((each) => each.anchor === anchor);
    return found && { uri, mimeType: 'text/markdown', text: found.text };
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
        description: `A file of the folder ${name} by its path; a section of a document behind #; a part of a file behind ?lines=1-200 or ?bytes=0-65535.`,
        complete: { path: () => state.files.map(({ path }) => path) },
        watch: (changed, uri) => watch(partsOf(uri, scheme).path)(changed),
      },
      (_variables, _call, { uri }) => read(uri),
    ),
  ];
}

/** Finds a file by its path, in a map that is made again when the files change. */
function finder(state: FolderState): (path: string) => FolderFile | undefined {
  let of: readonly FolderFile[] | undefined;
  let byPath = new Map<string, FolderFile>();
  return (path) => {
    if (of !== state.files) {
      of = state.files;
      byPath = new Map(of.map((file) => [file.path, file]));
    }
    return byPath.get(path);
  };
}

/** The lines that a URI with `?lines=` asks for, as text; undefined for a URI of something else. */
export async function linesOf(state: FolderState, uri: string): Promise<string | undefined> {
  const { path, part } = partsOf(uri, state.scheme);
  const file = part === undefined ? undefined : state.files.find((each) => each.path === path);
  if (file === undefined) return undefined;
  const bytes = await partOf(state, file, part!);
  return bytes?.toString('utf8');
}

async function partOf({ root, maxReadBytes }: FolderState, file: FolderFile, part: FilePart): Promise<Buffer | undefined> {
  return withFile(root, file, (handle) => readPart(handle, part, maxReadBytes));
}

/** The bytes of a file, as it was scanned; undefined when it is not there any more, or has got a name elsewhere. */
export function bytesOf(root: string, file: FolderFile): Promise<Buffer | undefined> {
  return withFile(root, file, (handle) => handle.readFile());
}

type Handle = NonNullable<Awaited<ReturnType<typeof openInside>>>['handle'];

async function withFile<T>(root: string, { path, links }: FolderFile, work: (handle: Handle) => Promise<T>): Promise<T | undefined> {
  const opened = await openInside(root, path);
  if (opened === undefined) return undefined;
  try {
    return opened.links > links ? undefined : await work(opened.handle);
  } finally {
    await opened.handle.close();
  }
}

async function readWhole({ root, maxReadBytes }: FolderState, file: FolderFile, uri: string) {
  if (file.size > maxReadBytes)
    throw new JexoError(
      'JEXO_TOO_LARGE',
      `${file.path} has ${file.size.toLocaleString('en')} bytes, and at most ${maxReadBytes.toLocaleString('en')} are read at once. Read it in parts: ${uri}?lines=1-1000, or ${uri}?bytes=0-${maxReadBytes - 1}.`,
      { where: uri },
    );
  const bytes = await bytesOf(root, file);
  return contentsOf(bytes, uri, mimeTypeOf(file.path));
}

function contentsOf(bytes: Buffer | undefined, uri: string, mimeType?: string) {
  if (bytes === undefined) return undefined;
  return isText(bytes)
    ? { uri, mimeType: mimeType ?? 'text/plain', text: bytes.toString('utf8') }
    : { uri, mimeType: mimeType ?? 'application/octet-stream', blob: bytes.toString('base64') };
}
