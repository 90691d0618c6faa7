import { createParser } from 'eventsource-parser';
import type { ContentBlock, ShelfItem } from './model';

/** What the root page asks of the server it was served by. */
export interface Front {
  readonly server: { readonly name: string; readonly title?: string; readonly version: string };
  readonly instructions?: string;
  readonly items: readonly ShelfItem[];
  call(name: string, input: object): Promise<{ content: ContentBlock[]; structuredContent?: object; isError?: boolean }>;
  read(uri: string): Promise<string>;
  render(name: string, input: Record<string, string>): Promise<string>;
}

const revision = '2025-11-25';

/** The texts of content blocks, and a word for what is none. */
export const textOf = (blocks: readonly ContentBlock[]) =>
  blocks
    .map((block) => {
      const { type, text, resource, uri, mimeType } = block;
      return text ?? resource?.text ?? uri ?? `[${[type, mimeType ?? resource?.mimeType].filter(Boolean).join(' ')}]`;
    })
    .join('\n');

interface Reply {
  readonly id?: number;
  readonly result?: unknown;
  readonly error?: { readonly message: string };
}

/** Sends messages of the protocol, one request at a time or several (Transports, "Streamable HTTP"). */
function sender(endpoint: string) {
  let session: string | undefined;
  let last = 0;
  const post = (message: object) =>
    fetch(endpoint, {
      method: 'POST',
      headers: {
        'content-type': 'application/json',
        accept: 'application/json, text/event-stream',
        ...(session !== undefined && { 'mcp-session-id': session, 'mcp-protocol-version': revision }),
      },
      body: JSON.stringify({ jsonrpc: '2.0', ...message }),
    });
  const send = async <T>(method: string, params: object): Promise<T> => {
    const id = ++last;
    const response = await post({ id, method, params });
    session ??= response.headers.get('mcp-session-id') ?? undefined;
    const text = await response.text();
    const messages: Reply[] = [];
    if (/event-stream/.test(response.headers.get('content-type') ?? '')) {
      const parser = createParser({ onEvent: ({ data }) => void (data !== '' && messages.push(JSON.parse(data) as Reply)) });
      parser.feed(text);
    } else if (text !== '') messages.push(JSON.parse(text) as Reply);
    const answer = messages.find((message) => message.id === id);
    if (answer?.error) throw new Error(answer.error.message);
    if (answer?.result === undefined) throw new Error(`HTTP ${response.status}: ${text.slice(0, 200)}`);
    return answer.result as T;
  };
  return { send, notify: (method: string) => post({ method }) };
}

interface Initialized {
  readonly serverInfo: Front['server'];
  readonly instructions?: string;
  readonly capabilities: Readonly<Record<string, object | undefined>>;
}
interface ListPage {
  readonly nextCursor?: string;
  readonly [key: string]: unknown;
}

/** Opens a session and lists everything. */
export async function connectFront(endpoint: string): Promise<Front> {
  const { send, notify } = sender(endpoint);
  const { serverInfo, instructions, capabilities } = await send<Initialized>('initialize', {
    protocolVersion: revision,
    capabilities: {},
    clientInfo: { name: 'front-page', version: '1' },
  });
  await notify('notifications/initialized');
  const all = async (kind: ShelfItem['kind'], method: string, list: string, key: string): Promise<ShelfItem[]> => {
    const found: ShelfItem[] = [];
    for (let cursor: string | undefined; ;) {
      const page: ListPage = await send(method, cursor === undefined ? {} : { cursor });
      for (const offer of page[list] as ShelfItem['offer'][]) {
        const { title, description } = offer;
        found.push({ kind, key: offer[key as 'name'], tokens: 0, offer, ...(title && { title }), ...(description && { description }) });
      }
      if ((cursor = page.nextCursor) === undefined) return found;
    }
  };
  const items = [
    ...(capabilities.tools ? await all('tool', 'tools/list', 'tools', 'name') : []),
    ...(capabilities.resources ? await all('resource', 'resources/list', 'resources', 'uri') : []),
    ...(capabilities.resources ? await all('template', 'resources/templates/list', 'resourceTemplates', 'uriTemplate') : []),
    ...(capabilities.prompts ? await all('prompt', 'prompts/list', 'prompts', 'name') : []),
  ];
  return {
    server: serverInfo,
    ...(instructions !== undefined && { instructions }),
    items,
    call: (name, input) => send('tools/call', { name, arguments: input }),
    async read(uri) {
      const { contents } = await send<{ contents: { text?: string; blob?: string; mimeType?: string }[] }>('resources/read', { uri });
      return contents
        .map(({ text, blob = '', mimeType }) => text ?? `[${mimeType ?? 'bytes'}, ${Math.floor((blob.length * 3) / 4)} bytes]`)
        .join('\n');
    },
    async render(name, input) {
      const { messages } = await send<{ messages: { role: string; content: ContentBlock | ContentBlock[] }[] }>('prompts/get', {
        name,
        arguments: input,
      });
      return messages.map(({ role, content }) => `${role}: ${textOf([content].flat())}`).join('\n\n');
    },
  };
}
