import { spawn, spawnSync, type ChildProcess } from 'node:child_process';
import { writeFileSync } from 'node:fs';
import { connect as connectSocket, createServer, type AddressInfo } from 'node:net';
import { join } from 'node:path';
import { freshFolder } from './command-line.js';

const isThere = spawnSync('mosquitto', ['-h']).error === undefined;
if (!isThere) console.warn('Mosquitto is not installed: its tests are skipped.');
/** Tests that need the broker: without it they are skipped by name, and in CI a skip is a failure. */
export const withBroker: typeof test = isThere || process.env.CI ? test : (test.skip as typeof test);

/** A broker of the test's own. */
export interface Broker {
  readonly url: string;
  readonly port: number;
  start(): Promise<void>;
  stop(): Promise<void>;
}

const freePort = () =>
  new Promise<number>((resolve) => {
    const server = createServer().listen(0, '127.0.0.1', () => {
      const { port } = server.address() as AddressInfo;
      server.close(() => resolve(port));
    });
  });

const answers = (port: number) =>
  new Promise<boolean>((resolve) => {
    const socket = connectSocket({ host: '127.0.0.1', port }, () => resolve(socket.end() !== undefined));
    socket.once('error', () => resolve(false));
  });

/** @param user a name and password that the broker asks for */
export async function makeBroker(user?: { readonly name: string; readonly password: string }): Promise<Broker> {
  const folder = freshFolder('broker');
  const port = await freePort();
  const passwords = join(folder, 'passwords');
  if (user) {
    writeFileSync(passwords, '', { mode: 0o600 });
    const made = spawnSync('mosquitto_passwd', ['-b', passwords, user.name, user.password]);
    if (made.status !== 0) throw new Error(String(made.stderr));
  }
  const own = process.getuid?.() === 0 ? 'user root\n' : '';
  const file = join(folder, 'mosquitto.conf');
  writeFileSync(
    file,
    `${own}listener ${port} 127.0.0.1\n${user ? `allow_anonymous false\npassword_file ${passwords}` : 'allow_anonymous true'}\nmax_queued_messages 0\n`,
  );
  let child: ChildProcess | undefined;
  return {
    url: `mqtt://127.0.0.1:${port}`,
    port,
    async start() {
      child = spawn('mosquitto', ['-c', file], { stdio: 'ignore' });
      for (let tries = 0; tries < 500; tries++) {
        if (await answers(port)) return;
        await new Promise((resolve) => setTimeout(resolve, 10));
      }
      throw new Error('The broker does not answer.');
    },
    async stop() {
      const stopping = child;
      child = undefined;
      if (stopping === undefined) return;
      const ended = new Promise((resolve) => stopping.once('exit', resolve));
      stopping.kill('SIGKILL');
      await ended;
    },
  };
}
