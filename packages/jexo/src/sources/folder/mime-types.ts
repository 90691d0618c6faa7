const types: Readonly<Record<string, string>> = {
  md: 'text/markdown',
  markdown: 'text/markdown',
  txt: 'text/plain',
  html: 'text/html',
  htm: 'text/html',
  css: 'text/css',
  csv: 'text/csv',
  js: 'text/javascript',
  mjs: 'text/javascript',
  ts: 'text/x-typescript',
  json: 'application/json',
  yaml: 'application/yaml',
  yml: 'application/yaml',
  toml: 'application/toml',
  xml: 'application/xml',
  sql: 'application/sql',
  svg: 'image/svg+xml',
  png: 'image/png',
  jpg: 'image/jpeg',
  jpeg: 'image/jpeg',
  gif: 'image/gif',
  webp: 'image/webp',
  pdf: 'application/pdf',
  mp3: 'audio/mpeg',
  wav: 'audio/wav',
};

/** The media type of a file by its ending. */
export function mimeTypeOf(path: string): string {
  const ending = /\.(\w+)$/.exec(path)?.[1]?.toLowerCase() ?? '';
  return types[ending] ?? 'application/octet-stream';
}

/** True for bytes that are text in UTF-8. */
export function isText(bytes: Uint8Array): boolean {
  if (bytes.subarray(0, 8192).includes(0)) return false;
  try {
    new TextDecoder('utf-8', { fatal: true }).decode(bytes);
    return true;
  } catch {
    return false; // bytes, or text in another encoding
  }
}
