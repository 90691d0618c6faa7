import { spawnSync, type ChildProcess } from 'node:child_process';
import spawn from 'cross-spawn';
import { JexoError } from '../errors.js';
import { encode } from '../protocol/json-rpc.js';
import { LineReader } from './lines.js';
import { wireTime, type Link, type LinkEvents, type WireTap } from './link.js';

export interface CommandTarget {
  readonly command: string;
  readonly args: readonly string[];
  /** Added to this process's own environment. */
  readonly env?: Readonly<Record<string, string>>;
  readonly cwd?: string;
}
export interface StdioLinkOptions {
  readonly tap?: WireTap;
  /** Each line the child writes to stderr. It need not mean failure. */
  readonly onStderr?: (line: string) => void;
  /** Bytes one message may have. Default 256 MiB. */
  readonly maxMessageBytes?: number;
  /** Milliseconds between closing stdin, SIGTERM and SIGKILL. Default 2,000. */
  readonly patienceMs?: number;
}

const onWindows = process.platform === 'win32';
const running = new Set<ChildProcess>();
process.once('exit', () => running.forEach((child) => killTree(child, 'SIGKILL')));

/** Ends a child and all it has started. */
function killTree(child: ChildProcess, signal: NodeJS.Signals): void {
  if (child.pid === undefined) return;
  if (onWindows) {
    spawnSync('taskkill', ['/pid', String(child.pid), '/t', '/f'], { stdio: 'ignore' });
    return;
  }
  try {
    process.kill(-child.pid, signal);
  } catch {
    // The whole group is gone already.
  }
}

/** A link to a server that we start as a child process (Transports, "stdio"). */
export function stdioLink(target: CommandTarget, options: StdioLinkOptions = {}): Link {
  const { tap, onStderr, maxMessageBytes = 256 * 1024 * 1024, patienceMs = 2000 } = options;
  const address = [target.command, ...target.args].join(' ');
  let child: ChildProcess | undefined;
  let exited: Promise<void> = Promise.resolve();
  let wanted = false;

  const start = (events: LinkEvents) =>
    new Promise<{ send: (message: Parameters<typeof encode>[0]) => void }>((resolve, reject) => {
      const lastWords: string[] = [];
      child = spawn(target.command, [...target.args], {
        stdio: ['pipe', 'pipe', 'pipe'],
        env: { ...process.env, ...target.env },
        windowsHide: true,
        // A group of its own, so that its children end with it.
        detached: !onWindows,
        ...(target.cwd !== undefined && { cwd: target.cwd }),
      });
      const { stdin, stdout, stderr } = child;
      running.add(child);
      child.once('close', () => running.delete(child!));
      let fault: Error | undefined;
      exited = new Promise((done) => {
        child!.once('error', (error: NodeJS.ErrnoException) => {
          const missing = error.code === 'ENOENT' || error.code === 'EACCES';
          const message = missing
            ? `The command ${target.command} could not be started: ${error.code === 'ENOENT' ? 'there is no such command' : 'it may not be executed'}. PATH was ${process.env.PATH ?? '(empty)'}.`
            : `The command ${target.command} failed: ${error.message}`;
          fault = new JexoError(missing ? 'JEXO_COMMAND_MISSING' : 'JEXO_CONNECT', message, { where: address, cause: error });
          reject(fault);
          events.closed(fault);
          done();
        });
        child!.once('close', (code, signal) => {
          const how = signal === null ? `with exit code ${code}` : `by ${signal}`;
          const words = lastWords.length > 0 ? `\nIts last lines were:\n${lastWords.map((line) => `  ${line}`).join('\n')}` : '';
          events.closed(
            wanted ? undefined : (fault ?? new JexoError('JEXO_SERVER_EXITED', `The server ended ${how}.${words}`, { where: address })),
          );
          done();
        });
      });
      const onErrorLine = (line: string) => {
        lastWords.push(line);
        if (lastWords.length > 10) lastWords.shift();
        onStderr?.(line);
      };
      const errors = new LineReader(64 * 1024, onErrorLine, () => undefined);
      stderr!.on('data', (chunk: Buffer) => errors.push(chunk));
      stderr!.on('end', () => errors.end());

      const lines = new LineReader(
        maxMessageBytes,
        (line) => {
          let message: unknown;
          try {
            message = JSON.parse(line);
          } catch {
            const shown = line.length > 200 ? `${line.slice(0, 200)}...` : line;
            tap?.({ at: wireTime(), way: 'received', bytes: Buffer.byteLength(line), message: line, note: 'not a protocol message' });
            fault = new JexoError('JEXO_NOT_PROTOCOL', `The server printed a line to stdout that is not a protocol message: ${shown}`, {
              where: address,
            });
            events.closed(fault);
            return;
          }
          tap?.({ at: wireTime(), way: 'received', bytes: Buffer.byteLength(line) + 1, message });
          events.receive(message);
        },
        (length) =>
          events.closed(new JexoError('JEXO_TOO_LARGE', `The server sent a message of more than ${length} bytes.`, { where: address })),
      );
      stdout!.on('data', (chunk: Buffer) => lines.push(chunk));
      stdout!.on('end', () => lines.end());
      // A broken pipe only says that the child is gone; its close event says why.
      stdin!.on('error', () => undefined);

      child.once('spawn', () =>
        resolve({
          send(message) {
            const text = `${encode(message)}\n`;
            tap?.({ at: wireTime(), way: 'sent', bytes: Buffer.byteLength(text), message });
            stdin!.write(text);
          },
        }),
      );
    });

  return {
    address,
    start,
    async close() {
      if (child === undefined || child.exitCode !== null || child.signalCode !== null) return;
      wanted = true;
      // Lifecycle, "Shutdown": close stdin, wait, SIGTERM, wait, SIGKILL.
      child.stdin?.end();
      for (const signal of ['SIGTERM', 'SIGKILL'] as const) {
        let timer: NodeJS.Timeout | undefined;
        const patience = new Promise<'late'>((resolve) => (timer = setTimeout(() => resolve('late'), patienceMs)));
        const outcome = await Promise.race([exited, patience]);
        clearTimeout(timer);
        if (outcome !== 'late') return killTree(child, 'SIGKILL'); // what it may have left behind
        killTree(child, signal);
      }
      await exited;
    },
  };
}
