import { spawn } from 'node:child_process';
import { existsSync } from 'node:fs';
import { cli, freshFolder } from './command-line.js';

const script = '/usr/bin/script';
const there = existsSync(script);

/** For tests that need a terminal: skipped by name where none can be made, which in CI is a failure. */
export const onTerminal = there || process.env.CI ? test : test.skip;
if (!there) console.warn(`No ${script} on this machine: the tests at a terminal are skipped.`);

export interface AtTerminal {
  readonly code: number | null;
  /** What stood on the screen, colours taken away. */
  readonly screen: string;
  /** The same with everything that drives the terminal. */
  readonly raw: string;
}

/** Runs the command line on a pseudo-terminal; `answers` are typed one by one, each when its prompt has appeared. */
export function atTerminal(
  args: readonly string[],
  answers: readonly (readonly [prompt: RegExp, line: string | ((screen: string) => Promise<string>)])[] = [],
  columns = 90,
  more: Record<string, string> = {},
): Promise<AtTerminal> {
  const words = [process.execPath, cli, ...args].map((word) => `'${word.replaceAll("'", String.raw`'\''`)}'`).join(' ');
  const { NO_COLOR: _, CI: __, ...env } = process.env;
  const child = spawn(script, ['-qefc', `stty cols ${columns} rows 40; exec ${words}`, '/dev/null'], {
    // What one test approves or types is not known to the next.
    env: { ...env, TERM: 'xterm-256color', JEXO_CACHE: freshFolder('terminal'), ...more },
  });
  let raw = '';
  let seen = 0;
  let next = 0;
  child.stdout.on('data', (chunk: Buffer) => {
    raw += chunk.toString();
    const [prompt, line] = answers[next] ?? [];
    const shown = plain(raw);
    if (prompt === undefined || !prompt.test(shown.slice(seen))) return;
    seen = shown.length;
    next++;
    const type = (text: string) => child.stdin.write(text === '^C' ? '\u0003' : `${text}\r`);
    if (typeof line === 'string') type(line);
    else line!(shown).then(type, (error: unknown) => child.emit('error', error));
  });
  return new Promise((resolve, reject) => {
    child.once('error', reject);
    child.once('close', (code) => resolve({ code, raw, screen: plain(raw) }));
  });
}

function plain(raw: string): string {
  return raw.replaceAll(/\u001b\[[\d;?]*[A-Za-z]/g, '').replaceAll('\r\n', '\n');
}
