/** A client written by hand, with nothing of ours in it: it posts what it is given and keeps all that comes back. */
export interface Raw {
  readonly id?: unknown;
  readonly method?: string;
  readonly params?: Record<string, unknown>;
  readonly result?: Record<string, unknown>;
  readonly error?: { readonly code: number; readonly message: string };
}
export interface RawClient {
  /** Everything the server sent, in order. */
  readonly heard: Raw[];
  /** Sends a request; its answer, once it has come. */
  ask(method: string, params?: object): Promise<Raw>;
  /** Sends any message: an answer or a notification. */
  post(message: object): Promise<void>;
  /** Waits for a message of the server. */
  until(matches: (message: Raw) => boolean): Promise<Raw>;
}

export async function rawClient(url: string, revision: string, capabilities: object = {}): Promise<RawClient> {
  const heard: Raw[] = [];
  const waiting = new Set<() => void>();
  let session: string | undefined;
  let last = 0;
  const take = (text: string) => {
    heard.push(JSON.parse(text) as Raw);
    for (const check of waiting) check();
  };
  const post = async (message: object) => {
    const response = await fetch(url, {
      method: 'POST',
      headers: {
        'content-type': 'application/json',
        accept: 'application/json, text/event-stream',
        ...(session !== undefined && { 'mcp-session-id': session, 'mcp-protocol-version': revision }),
      },
      body: JSON.stringify(message),
    });
    session ??= response.headers.get('mcp-session-id') ?? undefined;
    let text = '';
    const isStream = response.headers.get('content-type')?.startsWith('text/event-stream') === true;
    for await (const chunk of response.body?.pipeThrough(new TextDecoderStream()) ?? []) {
      text += chunk as string;
      for (let end; isStream && (end = text.indexOf('\n\n')) >= 0; text = text.slice(end + 2)) {
        const data = /^data: (.+)$/m.exec(text.slice(0, end))?.[1];
        if (data !== undefined) take(data);
      }
    }
    if (!isStream && text !== '') take(text);
  };
  const until = (matches: (message: Raw) => boolean) =>
    new Promise<Raw>((resolve) => {
      const check = () => {
        const found = heard.find(matches);
        if (found === undefined) return;
        waiting.delete(check);
        resolve(found);
      };
      waiting.add(check);
      check();
    });
  const client: RawClient = {
    heard,
    post,
    until,
    ask(method, params = {}) {
      const id = ++last;
      const answer = until((message) => message.id === id && message.method === undefined);
      post({ jsonrpc: '2.0', id, method, params }).catch((error: Error) =>
        take(JSON.stringify({ id, error: { code: 0, message: error.message } })),
      );
      return answer;
    },
  };
  await client.ask('initialize', { protocolVersion: revision, capabilities, clientInfo: { name: 'raw', version: '1' } });
  await post({ jsonrpc: '2.0', method: 'notifications/initialized' });
  return client;
}
