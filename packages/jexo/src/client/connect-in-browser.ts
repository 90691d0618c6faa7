import type { Servable } from '../engine/servable.js';
import { httpLink, type HttpLinkOptions } from '../transports/http/http-link.js';
import { memoryLink } from '../transports/memory.js';
import { connectLink, type Client, type ClientOptions } from './connect-link.js';

/** Connects to a server value in memory, or to the URL of a running one. */
export async function connect(target: Servable | string | URL, options: ClientOptions & HttpLinkOptions = {}): Promise<Client> {
  const link = typeof target === 'object' && 'open' in target ? memoryLink(target, options) : httpLink(String(target), options);
  return connectLink(link, options);
}
