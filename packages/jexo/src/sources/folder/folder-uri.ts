/** A URI of a file, or of a section of one. */
export const uriOf = (scheme: string, path: string, anchor = '') =>
  `${scheme}://${path.split('/').map(encodeURIComponent).join('/')}${anchor === '' ? '' : `#${encodeURIComponent(anchor)}`}`;

/** What a URI of the folder names; an empty path for one that cannot be read. */
export function partsOf(uri: string, scheme: string): { readonly path: string; readonly anchor: string } {
  if (!uri.startsWith(`${scheme}://`)) return { path: '', anchor: '' };
  const [path = '', anchor = ''] = uri.slice(scheme.length + 3).split('#');
  try {
    return { path: decodeURIComponent(path), anchor: decodeURIComponent(anchor) };
  } catch {
    return { path: '', anchor: '' }; // names no file
  }
}
