import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';

/** Puts a web-standard handler behind a port of this machine. */
export async function listen(
  handle: (request: Request) => Promise<Response> | Response,
): Promise<{ url: string; close(): Promise<unknown> }> {
  const server = createServer((request, response) => {
    const parts: Buffer[] = [];
    request.on('data', (part: Buffer) => parts.push(part));
    request.on('end', () => {
      const { method = 'GET', url = '/', headers } = request;
      const body = parts.length > 0 ? { body: Buffer.concat(parts) } : {};
      const given = new Request(`http://127.0.0.1${url}`, { method, headers: headers as Record<string, string>, ...body });
      void Promise.resolve(handle(given)).then(async (answer) => {
        response.writeHead(answer.status, Object.fromEntries(answer.headers));
        for await (const part of (answer.body ?? []) as AsyncIterable<Uint8Array>) response.write(part);
        response.end();
      });
    });
  });
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  return {
    url: `http://127.0.0.1:${(server.address() as AddressInfo).port}`,
    close: () => new Promise((resolve) => server.close(resolve).closeAllConnections()),
  };
}
