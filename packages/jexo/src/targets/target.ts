import { JexoError } from '../errors.js';

/** What a target's text names. */
export type Target =
  | { readonly kind: 'module'; readonly path: string }
  | { readonly kind: 'package'; readonly name: string }
  | { readonly kind: 'url'; readonly url: string }
  | { readonly kind: 'command'; readonly command: string; readonly args: readonly string[] };

/** A bare name, as an import would write it; a path inside the package may follow. */
const packages = /^(?:@[\w.-]+\/)?[A-Za-z_][\w-]*(?:\.js)?(?:\/[\w.-]+)*$/;
const modules = /\.[cm]?[jt]sx?$/i;

/**
 * Reads the one target grammar of every command and of `connect()`.
 * @throws JexoError JEXO_TARGET_UNKNOWN
 */
export function parseTarget(text: string): Target {
  if (/^https?:\/\//i.test(text)) {
    if (!URL.canParse(text)) throw new JexoError('JEXO_TARGET_UNKNOWN', `${text} is not a URL.`, { where: text });
    return { kind: 'url', url: text };
  }
  if (modules.test(text) && !/\.d\.[cm]?ts$/i.test(text)) return { kind: 'module', path: text };
  if (packages.test(text)) return { kind: 'package', name: text };
  throw new JexoError('JEXO_TARGET_UNKNOWN', `${text === '' ? 'An empty target' : text} names no server that Jexo can read.`, {
    where: text,
  });
}
