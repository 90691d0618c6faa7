import { spawn, spawnSync } from 'node:child_process';
import { writeFileSync } from 'node:fs';
import { connect as connectSocket, createServer, type AddressInfo } from 'node:net';
import { join } from 'node:path';
import { freshFolder } from './command-line.js';

const isThere = spawnSync('nginx', ['-v']).error === undefined;
if (!isThere) console.warn('nginx is not installed: its tests are skipped.');
/** Tests that need nginx: without it they are skipped by name, and in CI a skip is a failure. */
export const withNginx: typeof test = isThere || process.env.CI ? test : (test.skip as typeof test);

export const freePort = () =>
  new Promise<number>((resolve) => {
    const server = createServer().listen(0, '127.0.0.1', () => {
      const { port } = server.address() as AddressInfo;
      server.close(() => resolve(port));
    });
  });

/** A real nginx. */
export interface Nginx {
  readonly url: string;
  /** Starts new workers; the old ones get a second, and cut what is still open. */
  reload(): Promise<void>;
  stop(): Promise<void>;
}

/** @param http what stands in `http { … }`; `PORT` in it is a free port */
export async function startNginx(http: string): Promise<Nginx> {
  const folder = freshFolder('nginx');
  const port = await freePort();
  const config = join(folder, 'nginx.conf');
  const temporary = ['client_body', 'proxy', 'fastcgi', 'uwsgi', 'scgi'].map((each) => `${each}_temp_path ${folder}/${each};`).join(' ');
  writeFileSync(
    config,
    `${process.getuid?.() === 0 ? 'user root;' : ''} worker_processes 1; worker_shutdown_timeout 1s; pid ${folder}/nginx.pid; error_log ${folder}/error.log;
events { worker_connections 4096; }
http { access_log off; ${temporary}
${http.replaceAll('PORT', String(port))} }`,
  );
  const words = ['-p', folder, '-c', config];
  const child = spawn('nginx', [...words, '-g', 'daemon off;'], { stdio: ['ignore', 'ignore', 'pipe'] });
  let said = '';
  child.stderr.on('data', (chunk: Buffer) => (said += chunk.toString()));
  const ended = new Promise<void>((resolve) => child.once('close', () => resolve()));
  const answers = () =>
    new Promise<boolean>((resolve) => {
      const socket = connectSocket({ host: '127.0.0.1', port }, () => resolve(socket.end() !== undefined));
      socket.once('error', () => resolve(false));
    });
  for (let tries = 0; !(await answers()); tries++) {
    if (tries > 200 || child.exitCode !== null) throw new Error(`nginx did not start: ${said}`);
    await new Promise((resolve) => setTimeout(resolve, 20));
  }
  return {
    url: `http://127.0.0.1:${port}`,
    async reload() {
      spawnSync('nginx', [...words, '-s', 'reload']);
    },
    async stop() {
      child.kill('SIGTERM');
      await ended;
    },
  };
}
