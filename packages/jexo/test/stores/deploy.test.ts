import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { freshFolder, start, type Running } from '../support/command-line.js';
import { connect } from '../support/connect.js';
import { freePort, startNginx, withNginx } from '../support/nginx.js';
import { makeRedis } from '../support/redis-server.js';

const open: (() => unknown)[] = [];
afterEach(async () => {
  for (const close of open.splice(0).reverse()) await close();
});

withNginx(
  'a rolling deploy behind nginx, round robin: every call is answered once, and sessions go on with the new version',
  async () => {
    const folder = freshFolder('deploy');
    const file = join(folder, 'scales.ts');
    writeFileSync(
      file,
      `/** Weighs a hive. */
export async function weigh(kg: number): Promise<string> {
  await new Promise((resolve) => setTimeout(resolve, 20));
  return kg + ' kg by ' + process.env.VERSION;
}
`,
    );
    const store = await makeRedis();
    open.push(() => store.stop());
    const ports = [await freePort(), await freePort()];
    const begin = (port: number, version: string): Promise<Running> =>
      start(['serve', file, '--http', String(port), '--store', store.url, '--drain', '1', '--json', '--allow-host', '127.0.0.1'], {
        cwd: folder,
        env: { VERSION: version },
      });
    const running = await Promise.all(ports.map((port) => begin(port, 'one')));
    open.push(() => Promise.all(running.map((each) => each.stop())));
    const nginx = await startNginx(`
upstream apiary { ${ports.map((port) => `server 127.0.0.1:${port} max_fails=0;`).join(' ')} keepalive 16; }
server { listen 127.0.0.1:PORT; location / { proxy_pass http://apiary; proxy_http_version 1.1; proxy_set_header Connection "";
  proxy_set_header Host $http_host; proxy_buffering off; proxy_next_upstream error timeout http_503 non_idempotent; } }`);
    open.push(() => nginx.stop());
    const clients = await Promise.all(Array.from({ length: 4 }, () => connect(`${nginx.url}/mcp`, { backOffMs: 50 })));
    open.push(() => Promise.all(clients.map((client) => client.close())));
    let isOver = false;
    const by = new Map<string, number>();
    const failures: string[] = [];
    const loads = clients.map(async (client) => {
      for (let kg = 1; !isOver; kg++) {
        const text = await client.call('weigh', { kg }).then(
          ({ content }) => (content[0] as { text: string }).text,
          (error: Error) => error.message,
        );
        const [, said, version] = /^(\d+) kg by (\w+)$/.exec(text) ?? [];
        if (Number(said) === kg) by.set(version!, (by.get(version!) ?? 0) + 1);
        else failures.push(text);
      }
    });
    for (const [index, port] of ports.entries()) {
      expect(await running[index]!.stop('SIGTERM')).toBe(0);
      running[index] = await begin(port, 'two');
    }
    const before = by.get('two') ?? 0;
    while ((by.get('two') ?? 0) < before + 40) await new Promise((resolve) => setTimeout(resolve, 20));
    isOver = true;
    await Promise.all(loads);
    expect(failures).toEqual([]);
    expect([by.get('one')! > 20, by.get('two')! > 40]).toEqual([true, true]);
  },
  60_000,
);
