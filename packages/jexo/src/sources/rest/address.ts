import { JexoError } from '../../errors.js';
import type { Settings } from '../../offers/source.js';
import { readSetting } from '../setting.js';
import type { Api, Operation, Server } from './operation.js';
import type { WrapRestOptions } from './wrap-rest.js';

/**
 * Where an operation is.
 * @throws JexoError JEXO_DEFINITION when nothing says where the API is
 */
export function baseOf({ servers }: Operation, api: Api, { baseUrl, variables = {}, send }: WrapRestOptions, settings: Settings): URL {
  const text =
    baseUrl !== undefined
      ? readSetting(baseUrl, `The address of ${api.title}`, settings)
      : servers[0] === undefined
        ? undefined
        : fill(servers[0], variables);
  if (text !== undefined && /^https?:\/\//i.test(text) && URL.canParse(text)) return new URL(text);
  if (text === undefined && send !== undefined) return new URL('http://in-process');
  if (send !== undefined && text?.startsWith('/')) return new URL(text, 'http://in-process');
  throw new JexoError(
    'JEXO_DEFINITION',
    text === undefined ? `${api.title} does not say where it is.` : `${api.title} is at ${JSON.stringify(text)}, which is no address.`,
    { where: 'baseUrl', next: "Say it: baseUrl: env('API_URL') in code, --base-url <url> at the terminal." },
  );
}

function fill({ url, variables: declared }: Server, given: Readonly<Record<string, string>>): string {
  return url.replaceAll(/\{([^}]+)\}/g, (whole, name: string) => given[name] ?? declared[name]?.default ?? whole);
}

export function join(base: URL, path: string): URL {
  return new URL(base.href.replace(/[?#].*$/, '').replace(/\/$/, '') + path);
}
