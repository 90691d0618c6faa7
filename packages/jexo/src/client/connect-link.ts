import { systemClock } from '../engine/clock.js';
import type { Channel } from '../engine/exchange.js';
import { initialize } from '../engine/handshake.js';
import { Peer, type NotificationHandler, type RequestHandler, type RequestOptions } from '../engine/peer.js';
import { JexoError } from '../errors.js';
import type { Params } from '../protocol/json-rpc.js';
import type { Revision } from '../protocol/revisions.js';
import type { CallToolResult, Implementation, InitializeResult, LogMessage, ProgressUpdate, Tool } from '../protocol/types.js';
import type { Link } from '../transports/link.js';

export interface ClientOptions {
  /** What the client calls itself. */
  readonly info?: Implementation;
  /** The revision to ask for. Default: the newest. */
  readonly revision?: Revision;
  /** Milliseconds to wait for an answer, for every request that says nothing else. Default 60,000. */
  readonly timeoutMs?: number;
  readonly onLog?: (message: LogMessage) => void;
  /** The server's tools have changed; `tools()` will list them anew. */
  readonly onToolsChanged?: () => void;
  /** The connection has ended; with an error when nobody asked for it. */
  readonly onClosed?: (error?: Error) => void;
}

export interface CallOptions {
  readonly timeoutMs?: number;
  readonly maxTimeoutMs?: number;
  readonly signal?: AbortSignal;
  readonly onProgress?: (update: ProgressUpdate) => void;
}

/** A connection to one server. */
export interface Client {
  readonly address: string;
  /** What both sides agreed on: revision, the server's name, capabilities and instructions. */
  readonly server: InitializeResult;
  /** All tools, page after page. */
  tools(options?: CallOptions): Promise<readonly Tool[]>;
  /**
   * Calls a tool. A failure of the tool itself is a result with `isError: true`.
   * @throws RpcError for an unknown tool or input the server refused; JexoError for timeout, cancellation, lost connection
   * @example
   * const { structuredContent } = await client.call('mix_syrup', { colonies: 12 });
   */
  call(name: string, input?: Record<string, unknown>, options?: CallOptions): Promise<CallToolResult>;
  ping(options?: CallOptions): Promise<void>;
  setLogLevel(level: LogMessage['level']): Promise<void>;
  close(): Promise<void>;
}

/** More pages than any real list has; a server that never stops is cut off here (Server utilities, "Pagination"). */
const maxPages = 10_000;

/** Opens a link and completes the handshake. */
export async function connectLink(link: Link, options: ClientOptions = {}): Promise<Client> {
  const { info = { name: 'jexo', version: '0.1.0' }, timeoutMs = 60_000 } = options;
  const notifications = new Map<string, NotificationHandler>([
    ['notifications/message', (params) => options.onLog?.(params as unknown as LogMessage)],
    ['notifications/tools/list_changed', () => options.onToolsChanged?.()],
  ]);
  const requests = new Map<string, RequestHandler>([['ping', () => ({})]]);
  const notYet: Channel = {
    send() {
      throw new JexoError('JEXO_CLOSED', 'The link has not been started.');
    },
  };
  const peer = new Peer({ role: 'client', outlet: notYet, clock: systemClock, requests, notifications });
  peer.outlet = await link.start({
    receive: (value) => peer.receive(value),
    failed: (id, error) => peer.fail(id, error),
    closed(error) {
      if (peer.state === 'closed') return;
      peer.close(error?.message ?? 'the other side has closed the connection', error);
      options.onClosed?.(error);
    },
  });
  let server: InitializeResult;
  try {
    server = await initialize(peer, {
      info,
      capabilities: {},
      timeoutMs,
      ...(options.revision !== undefined && { revision: options.revision }),
    });
  } catch (error) {
    peer.close('the handshake failed');
    await link.close();
    throw error;
  }
  link.agreed?.(peer.revision);

  const request = (method: string, params: Params | undefined, call: RequestOptions = {}) =>
    peer.request(method, params, { timeoutMs, ...call });
  const listAll = async <T>(method: string, key: string, call?: CallOptions): Promise<T[]> => {
    const found: T[] = [];
    const seen = new Set<string>();
    let cursor: string | undefined;
    for (let page = 0; page < maxPages; page++) {
      const result: Params = await request(method, cursor === undefined ? undefined : { cursor }, call);
      if (!Array.isArray(result[key]))
        throw new JexoError('JEXO_NOT_PROTOCOL', `The server answered ${method} without a list of ${key}.`, { where: link.address });
      found.push(...(result[key] as T[]));
      cursor = result.nextCursor as string | undefined;
      if (cursor === undefined) return found;
      if (seen.has(cursor))
        throw new JexoError('JEXO_PAGING', `${method} gave the cursor ${JSON.stringify(cursor)} a second time.`, { where: link.address });
      seen.add(cursor);
    }
    throw new JexoError('JEXO_PAGING', `${method} did not end after ${maxPages} pages.`, { where: link.address });
  };

  return {
    address: link.address,
    server,
    tools: (call) => listAll<Tool>('tools/list', 'tools', call),
    call: async (name, input = {}, call) => {
      const result = await request('tools/call', { name, arguments: input }, call);
      if (!Array.isArray(result.content))
        throw new JexoError('JEXO_NOT_PROTOCOL', `The server answered the call of ${name} without content.`, { where: link.address });
      return result as unknown as CallToolResult;
    },
    ping: async (call) => void (await request('ping', undefined, call)),
    setLogLevel: async (level) => void (await request('logging/setLevel', { level })),
    async close() {
      peer.close('closed by the client');
      await link.close();
      options.onClosed?.();
    },
  };
}
