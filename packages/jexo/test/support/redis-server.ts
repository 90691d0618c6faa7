import { spawn, spawnSync, type ChildProcess } from 'node:child_process';
import { connect as connectSocket } from 'node:net';
import { freshFolder } from './command-line.js';
import { freePort } from './nginx.js';

const isThere = spawnSync('redis-server', ['--version']).error === undefined;
if (!isThere) console.warn('redis-server is not installed: its tests are skipped.');
/** Tests that need Redis: without it they are skipped by name, and in CI a skip is a failure. */
export const withRedis: typeof test = isThere || process.env.CI ? test : (test.skip as typeof test);

/** A Redis of the test's own. */
export interface RedisServer {
  readonly url: string;
  readonly port: number;
  start(): Promise<void>;
  /** Ends it; what it held is gone. */
  stop(): Promise<void>;
  /** It takes connections and answers nothing. */
  hold(): void;
  goOn(): void;
}

const answers = (port: number): Promise<boolean> =>
  new Promise((resolve) => {
    const socket = connectSocket({ host: '127.0.0.1', port }, () => socket.write('PING\r\n'));
    socket.once('data', () => resolve(socket.destroy() !== undefined));
    socket.once('error', () => resolve(false));
  });

export async function makeRedis(): Promise<RedisServer> {
  const port = await freePort();
  const folder = freshFolder('redis');
  let child: ChildProcess | undefined;
  const server: RedisServer = {
    url: `redis://127.0.0.1:${port}`,
    port,
    async start() {
      child = spawn('redis-server', ['--port', String(port), '--bind', '127.0.0.1', '--save', '', '--appendonly', 'no', '--dir', folder], {
        stdio: 'ignore',
      });
      while (!(await answers(port))) await new Promise((resolve) => setTimeout(resolve, 20));
    },
    async stop() {
      const ending = child;
      if (ending === undefined) return;
      child = undefined;
      ending.kill('SIGCONT');
      ending.kill('SIGKILL');
      await new Promise((resolve) => ending.once('close', resolve));
    },
    hold: () => void child?.kill('SIGSTOP'),
    goOn: () => void child?.kill('SIGCONT'),
  };
  await server.start();
  return server;
}
