import { isJexoError } from '../errors.js';
import { httpLink, type HttpLinkOptions } from '../transports/http/http-link.js';
import { olderLink } from '../transports/http/older-link.js';
import { connectLink, type Client, type ClientOptions } from './connect-link.js';

/** Answers to the first POST that may come from a server of the older transport (Transports, "Backwards Compatibility"). */
const signsOfAge = new Set([400, 404, 405]);

/** Connects over Streamable HTTP, and over the older pair when the server knows nothing newer. */
export async function connectUrl(url: string, options: ClientOptions & HttpLinkOptions): Promise<Client> {
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
