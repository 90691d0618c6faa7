/** A URI of a file, or of a section of one. */
export const uriOf = (scheme: string, path: string, anchor = '') =>
  `${scheme}://${path.split('/').map(encodeURIComponent).join('/')}${anchor === '' ? '' : `#${encodeURIComponent(anchor)}`}`;

/** A part of a file: lines from 1, or bytes from 0, both ends included. */
export interface FilePart {
  readonly of: 'lines' | 'bytes';
  readonly from: number;
  readonly to: number;
}

/** What a URI of a folder names. */
export interface FolderPlace {
  /** Empty for a URI that cannot be read. */
  readonly path: string;
  /** The section, behind `#`. */
  readonly anchor: string;
  readonly part?: FilePart;
}

const nothing: FolderPlace = { path: '', anchor: '' };

/** What a URI of the folder names. */
export function partsOf(uri: string, scheme: string): FolderPlace {
  if (!uri.startsWith(`${scheme}://`)) return nothing;
  const [whole = '', anchor = ''] = uri.slice(scheme.length + 3).split('#');
  const [path = '', query] = whole.split('?');
  const [, of, from, to] = /^(lines|bytes)=(\d{1,12})-(\d{1,12})$/.exec(query ?? '') ?? [];
  if (query !== undefined && of === undefined) return nothing;
  try {
    return {
      path: decodeURIComponent(path),
      anchor: decodeURIComponent(anchor),
      ...(of !== undefined && { part: { of: of as FilePart['of'], from: Number(from), to: Number(to) } }),
    };
  } catch {
    return nothing;
  }
}
