import type { Servable } from '../engine/servable.js';
import type { HttpLinkOptions } from '../transports/http/http-link.js';
import { memoryLink } from '../transports/memory.js';
import { connectLink, type Client, type ClientOptions } from './connect-link.js';
import { connectUrl } from './connect-url.js';

/** Connects to a server value in memory, or to the URL of a running one. */
export async function connect(target: Servable | string | URL, options: ClientOptions & HttpLinkOptions = {}): Promise<Client> {
  if (typeof target === 'object' && 'open' in target) return connectLink(memoryLink(target, options), options);
  return connectUrl(String(target), options);
}
