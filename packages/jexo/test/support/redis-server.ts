import { spawn, spawnSync, type ChildProcess } from 'node:child_process';
import { writeFileSync } from 'node:fs';
import { connect as connectSocket } from 'node:net';
import { join } from 'node:path';
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
  /** 0 without TLS. */
  readonly tlsPort: number;
  start(): Promise<void>;
  /** Ends it; what it held is gone. */
  stop(): Promise<void>;
  /** It takes connections and answers nothing. */
  hold(): void;
  goOn(): void;
}

const inMemory = ['--save', '', '--appendonly', 'no'];

const answers = (port: number): Promise<boolean> =>
  new Promise((resolve) => {
    const socket = connectSocket({ host: '127.0.0.1', port }, () => socket.write('PING\r\n'));
    socket.once('data', () => resolve(socket.destroy() !== undefined));
    socket.once('error', () => resolve(false));
  });

/** @param more words of its command line; with `hasTls` it takes TLS on a port of its own too */
export async function makeRedis(more: readonly string[] = [], hasTls = false): Promise<RedisServer> {
  const port = await freePort();
  const tlsPort = hasTls ? await freePort() : 0;
  const folder = freshFolder('redis');
  let child: ChildProcess | undefined;
  const server: RedisServer = {
    url: `redis://127.0.0.1:${port}`,
    port,
    tlsPort,
    async start() {
      const words = ['--port', String(port), '--bind', '127.0.0.1', '--dir', folder, '--tls-port', String(tlsPort)];
      child = spawn('redis-server', [...words, ...inMemory, ...more], { stdio: 'ignore' });
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

/** Several servers that belong together. */
export interface RedisGroup {
  readonly url: string;
  /** Ends the main server, so that a replica takes its place. */
  failOver(): void;
  stop(): Promise<void>;
}

async function spawnRedis(words: readonly string[], port: number, dir: string): Promise<ChildProcess> {
  const child = spawn('redis-server', [...words, '--port', String(port), '--bind', '127.0.0.1', '--dir', dir], { stdio: 'ignore' });
  while (!(await answers(port))) await new Promise((resolve) => setTimeout(resolve, 20));
  return child;
}

async function endAll(children: readonly ChildProcess[]): Promise<void> {
  const ended = children.map(
    (child) => child.exitCode ?? child.signalCode ?? new Promise((resolve) => child.once('close', resolve) && child.kill('SIGKILL')),
  );
  await Promise.all(ended);
}

/** A cluster of three servers without replicas. */
export async function makeCluster(): Promise<RedisGroup> {
  const children: ChildProcess[] = [];
  const ports: number[] = [];
  // The port of the cluster's own talk is 10,000 above.
  while (ports.length < 3) {
    const port = await freePort();
    if (port >= 55_000) continue;
    ports.push(port);
    children.push(await spawnRedis([...inMemory, '--cluster-enabled', 'yes'], port, freshFolder('cluster')));
  }
  const nodes = ports.map((port) => `127.0.0.1:${port}`);
  const made = spawnSync('redis-cli', ['--cluster', 'create', ...nodes, '--cluster-yes'], { encoding: 'utf8' });
  if (made.status !== 0) throw new Error(made.stdout + made.stderr);
  const isReady = () =>
    spawnSync('redis-cli', ['-p', String(ports[2]), 'cluster', 'info'], { encoding: 'utf8' }).stdout.includes('state:ok');
  while (!isReady()) await new Promise((resolve) => setTimeout(resolve, 50));
  return { url: `redis+cluster://${nodes.join(',')}`, failOver: () => children[0]!.kill('SIGKILL'), stop: () => endAll(children) };
}

/** A server, its replica, and three sentinels that watch them. */
export async function makeSentinels(): Promise<RedisGroup> {
  const [main, replica] = [await freePort(), await freePort()];
  const children = [
    await spawnRedis(inMemory, main, freshFolder('main')),
    await spawnRedis([...inMemory, '--replicaof', `127.0.0.1 ${main}`], replica, freshFolder('replica')),
  ];
  const sentinels: number[] = [];
  for (let count = 0; count < 3; count++) {
    const port = await freePort();
    const folder = freshFolder('sentinel');
    const file = join(folder, 'sentinel.conf');
    writeFileSync(
      file,
      `sentinel monitor apiary 127.0.0.1 ${main} 2\nsentinel down-after-milliseconds apiary 500\nsentinel failover-timeout apiary 3000\n`,
    );
    children.push(await spawnRedis([file, '--sentinel'], port, folder));
    sentinels.push(port);
  }
  const info = () => spawnSync('redis-cli', ['-p', String(sentinels[0]), 'sentinel', 'master', 'apiary'], { encoding: 'utf8' }).stdout;
  while (!/num-slaves\n1\nnum-other-sentinels\n2\n/.test(info())) await new Promise((resolve) => setTimeout(resolve, 50));
  return {
    url: `redis+sentinel://${sentinels.map((port) => `127.0.0.1:${port}`).join(',')}/apiary`,
    failOver: () => children[0]!.kill('SIGKILL'),
    stop: () => endAll(children),
  };
}
