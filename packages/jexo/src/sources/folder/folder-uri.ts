/** A URI of a file, or of a section of one. */
export const uriOf = (scheme: string, path: string, anchor = '') =>
  `${scheme}://${path.split('/').map(encodeURIComponent).join('/')}${anchor === '' ? '' : `#${encodeURIComponent(anchor)}`}`;
