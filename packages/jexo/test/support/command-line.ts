import { spawn, type ChildProcess } from 'node:child_process';
import { mkdtempSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { createInterface } from 'node:readline';
import { fileURLToPath } from 'node:url';

export const cli = fileURLToPath(new URL('../../dist/cli.mjs', import.meta.url));
export const cooperative = fileURLToPath(new URL('../../../../examples/cooperative/', import.meta.url));
export const hives = join(cooperative, 'hives.ts');

export interface Outcome {
  readonly code: number | null;
  readonly stdout: string;
  readonly stderr: string;
}
export interface RunOptions {
  readonly cwd?: string;
  readonly stdin?: string;
  readonly env?: Record<string, string>;
}

/** Runs the real command line to its end. */
export function jexo(args: readonly string[], options: RunOptions = {}): Promise<Outcome> {
  return run(process.execPath, [cli, ...args], options);
}

export function run(command: string, args: readonly string[], { cwd, stdin, env }: RunOptions = {}): Promise<Outcome> {
  const child = spawn(command, args, { cwd, env: { ...process.env, NO_COLOR: '1', COLUMNS: '100', ...env } });
  let stdout = '';
  let stderr = '';
  child.stdout.on('data', (chunk: Buffer) => (stdout += chunk.toString()));
  child.stderr.on('data', (chunk: Buffer) => (stderr += chunk.toString()));
  child.stdin.end(stdin ?? '');
  return new Promise((resolve, reject) => {
    child.once('error', reject);
    child.once('close', (code) => resolve({ code, stdout, stderr }));
  });
}

export interface Running {
  readonly child: ChildProcess;
  /** The first line on stderr or stdout that is JSON: what `--json` says. */
  readonly said: Record<string, unknown>;
  stderr(): string;
  /** Sends a signal and waits for the end. */
  stop(signal?: NodeJS.Signals): Promise<number | null>;
}

/** Starts a command that keeps running, and waits until it says in JSON that it is ready. */
export async function start(args: readonly string[], options: RunOptions = {}): Promise<Running> {
  const child = spawn(process.execPath, [cli, ...args], { cwd: options.cwd, env: { ...process.env, NO_COLOR: '1', ...options.env } });
  let stderr = '';
  const closed = new Promise<number | null>((resolve) => child.once('close', resolve));
  const said = await new Promise<Record<string, unknown>>((resolve, reject) => {
    const take = (line: string) => line.startsWith('{') && resolve(JSON.parse(line) as Record<string, unknown>);
    createInterface({ input: child.stdout }).on('line', take);
    createInterface({ input: child.stderr }).on('line', (line) => {
      stderr += `${line}\n`;
      take(line);
    });
    void closed.then((code) => reject(new Error(`ended with ${code}: ${stderr}`)));
  });
  return {
    child,
    said,
    stderr: () => stderr,
    stop(signal = 'SIGTERM') {
      child.kill(signal);
      return closed;
    },
  };
}

export function freshFolder(name: string): string {
  return mkdtempSync(join(tmpdir(), `jexo-test-${name}-`));
}
