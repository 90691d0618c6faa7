import { connect, defineServer, wrapRest, type WrapRestOptions } from '../../src/index.js';

export interface Sent {
  readonly method: string;
  readonly url: URL;
  readonly headers: Headers;
  readonly body: string;
  readonly form: FormData | undefined;
}

/** An API that notes what it is sent, and answers as it is told. */
export function fakeApi(answer: (request: Sent) => Response | Promise<Response> = () => Response.json({})) {
  const sent: Sent[] = [];
  const send = (async (input: URL | string, init: RequestInit = {}) => {
    const request = new Request(input, init);
    const isForm = request.headers.get('content-type')?.startsWith('multipart/');
    const form = isForm ? await request.clone().formData() : undefined;
    const one = {
      method: request.method,
      url: new URL(String(input)),
      headers: request.headers,
      body: isForm ? '' : await request.text(),
      form,
    };
    sent.push(one);
    return answer(one);
  }) as typeof fetch;
  return { sent, send };
}

export type Paths = Record<string, Record<string, object | string>>;
export const documentOf = (paths: Paths, more: object = {}) => ({
  openapi: '3.1.0',
  info: { title: 'Registry', version: '1.0.0' },
  servers: [{ url: 'http://registry.example/v1' }],
  paths,
  ...more,
});
export const ok = (schema?: object) => ({
  responses: { 200: { description: 'OK', ...(schema && { content: { 'application/json': { schema } } }) } },
});

export async function wrapped(document: object | string, options: WrapRestOptions = {}) {
  const server = defineServer({ name: 'registry', version: '1.0.0', offers: [wrapRest(document, options)] });
  await server.ready();
  const client = await connect(server);
  const { omitted, excluded } = await server.catalogue();
  const tools = client.server.capabilities.tools === undefined ? [] : await client.tools();
  return {
    client,
    server,
    omitted,
    excluded,
    tools,
    names: tools.map(({ name }) => name),
    tool: (name: string) => tools.find((each) => each.name === name)!,
  };
}
export const textOf = ({ content }: { content: readonly object[] }) =>
  content.map((block) => (block as { text?: string }).text ?? '').join('\n');
