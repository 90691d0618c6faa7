import { createServer, connect, type Socket } from 'node:net';

export interface CuttingProxy {
  readonly url: string;
  /** Bytes that came back over the proxy since the last `arm`. */
  readonly passed: number;
  /** Cuts the connections once so many more bytes have come back from the server. */
  arm(afterBytes: number): void;
  close(): void;
}

/** A proxy in front of a server that cuts connections at a chosen byte. */
export async function cuttingProxy(url: string): Promise<CuttingProxy> {
  const target = new URL(url);
  const open = new Set<Socket>();
  let passed = 0;
  let left = Number.POSITIVE_INFINITY;
  const server = createServer((client) => {
    const upstream = connect(Number(target.port), target.hostname);
    for (const socket of [client, upstream]) {
      open.add(socket);
      socket.on('close', () => open.delete(socket)).on('error', () => undefined);
    }
    client.pipe(upstream);
    upstream.on('data', (chunk: Buffer) => {
      passed += chunk.length;
      const through = chunk.subarray(0, Math.max(0, left));
      left -= chunk.length;
      client.write(through);
      if (left > 0) return;
      left = Number.POSITIVE_INFINITY;
      // What was let through arrives; then both ends are gone.
      client.end(() => client.destroy());
      upstream.destroy();
    });
    upstream.on('end', () => client.end());
    client.on('close', () => upstream.destroy());
  });
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  const { port } = server.address() as { port: number };
  return {
    url: `http://127.0.0.1:${port}${target.pathname}`,
    get passed() {
      return passed;
    },
    arm(afterBytes) {
      passed = 0;
      left = afterBytes;
    },
    close() {
      for (const socket of open) socket.destroy();
      server.close();
    },
  };
}
