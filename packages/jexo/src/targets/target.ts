import { JexoError } from '../errors.js';

/** What a target's text names. */
export type Target =
  | { readonly kind: 'module'; readonly path: string }
  | { readonly kind: 'package'; readonly name: string }
  | { readonly kind: 'url'; readonly url: string }
  /** An OpenAPI document, by path or URL. */
  | { readonly kind: 'document'; readonly place: string }
  /** An entry of a host application's configuration: `hosts.json#name`. */
  | { readonly kind: 'entry'; readonly file: string; readonly name: string }
  | { readonly kind: 'command'; readonly command: string; readonly args: readonly string[] };

/** A bare name, as an import would write it; a path inside the package may follow. */
const packages = /^(?:@[\w.-]+\/)?[A-Za-z_][\w-]*(?:\.js)?(?:\/[\w.-]+)*$/;
const modules = /\.[cm]?[jt]sx?$/i;

const documents = /\.(?:ya?ml|json)$/i;
/** Files of our own that are no servers. */
const sheets = /\.(?:calls|requests|jexo)\.(?:ya?ml|json)$/i;

/** True for the address of a running server; one that ends like a file is a document's. */
export function isServerUrl(text: string): boolean {
  return /^https?:\/\//i.test(text) && !(URL.canParse(text) && documents.test(new URL(text).pathname));
}

/**
 * Reads the one target grammar of every command and of `connect()`.
 * @throws JexoError JEXO_TARGET_UNKNOWN
 */
export function parseTarget(text: string): Target {
  if (/^https?:\/\//i.test(text)) {
    if (!URL.canParse(text)) throw new JexoError('JEXO_TARGET_UNKNOWN', `${text} is not a URL.`, { where: text });
    return isServerUrl(text) ? { kind: 'url', url: text } : { kind: 'document', place: text };
  }
  const [, file, name] = /^(.+\.(?:jsonc?|toml|ya?ml))#(.+)$/i.exec(text) ?? [];
  if (file !== undefined) return { kind: 'entry', file, name: name! };
  if (modules.test(text) && !/\.d\.[cm]?ts$/i.test(text)) return { kind: 'module', path: text };
  if (documents.test(text) && !sheets.test(text)) return { kind: 'document', place: text };
  if (packages.test(text)) return { kind: 'package', name: text };
  throw new JexoError('JEXO_TARGET_UNKNOWN', `${text === '' ? 'An empty target' : text} names no server that Jexo can read.`, {
    where: text,
  });
}
