import { isJexoError } from '../errors.js';
import { httpLink, type HttpLinkOptions } from '../transports/http/http-link.js';
import { olderLink } from '../transports/http/older-link.js';
import { connectLink, type Client, type ClientOptions } from './connect-link.js';

/** Answers to the first POST that may come from a server of the older transport (Transports, "Backwards Compatibility"). */
const signsOfAge = new Set([400, 404, 405]);

/**
 * Connects over Streamable HTTP, and over the older pair when the server knows nothing newer. A name and a password in the URL are sent as
 * basic credentials (RFC 7617), and appear nowhere else.
 */
export async function connectUrl(given: string, wanted: ClientOptions & HttpLinkOptions): Promise<Client> {
  const { url, options } = withoutCredentials(given, wanted);
  try {
    return await connectLink(httpLink(url, options), options);
  } catch (error) {
    const status = isJexoError(error) ? (error.data as { status?: number } | undefined)?.status : undefined;
    if (status === undefined || !signsOfAge.has(status)) throw error;
    try {
      return await connectLink(olderLink(url, options), options);
    } catch {
      throw error; // no older server either: the first answer says more
    }
  }
}

function withoutCredentials<O extends HttpLinkOptions>(given: string, options: O): { readonly url: string; readonly options: O } {
  if (!URL.canParse(given)) return { url: given, options };
  const url = new URL(given);
  const { username, password } = url;
  if (username === '' && password === '') return { url: given, options };
  url.username = '';
  url.password = '';
  const bytes = new TextEncoder().encode(`${plain(username)}:${plain(password)}`);
  const Authorization = `Basic ${btoa(String.fromCharCode(...bytes))}`;
  const hasOwn = Object.keys(options.headers ?? {}).some((name) => name.toLowerCase() === 'authorization');
  return { url: url.href, options: hasOwn ? options : { ...options, headers: { ...options.headers, Authorization } } };
}

function plain(text: string): string {
  try {
    return decodeURIComponent(text);
  } catch {
    return text; // a lone percent sign stands for itself
  }
}
