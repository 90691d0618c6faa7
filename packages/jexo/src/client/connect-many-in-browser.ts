import type { Servable } from '../engine/servable.js';
import type { HttpLinkOptions } from '../transports/http/http-link.js';
import { connectServers, type Clients, type ClientsOptions } from './clients.js';
import type { ClientOptions } from './client.js';
import { connect } from './connect-in-browser.js';

/** A server and what is different for it: `{ target: 'https://lab.example/mcp', headers: { … } }`. */
export interface UrlWithOptions extends ClientOptions, HttpLinkOptions {
  /** Its URL, or a server value in this page. */
  readonly target: string | URL | Servable;
}

/**
 * Connects a page to many servers at once, and keeps them connected: URLs, or server values in the page itself, by the names they get here.
 * @throws JexoError JEXO_DEFINITION for two of one name
 * @example
 * const clients = await connectAll({ hives: 'http://127.0.0.1:4300/mcp', lab: { target: 'https://lab.example/mcp', headers: { … } } });
 */
export function connectAll(
  servers: Readonly<Record<string, string | URL | Servable | UrlWithOptions>>,
  options: ClientsOptions & HttpLinkOptions = {},
): Promise<Clients> {
  const { onLog: _, ...shared } = options;
  return connectServers(
    Object.entries(servers).map(([name, each]) => {
      const { target, ...own } = typeof each === 'object' && 'target' in each ? each : { target: each };
      return {
        name,
        address: typeof target === 'object' && 'open' in target ? 'this page' : String(target),
        open: (session) => connect(target, { ...shared, ...own, ...session }),
      };
    }),
    options,
  );
}
