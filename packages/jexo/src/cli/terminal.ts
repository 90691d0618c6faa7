import { styleText } from 'node:util';
import { guardStdout } from '../transports/stdout-guard.js';

type Style = 'amber' | 'moss' | 'brick' | 'ochre' | 'slate' | 'quiet' | 'bold';
const styles: Record<Style, Parameters<typeof styleText>[0]> = {
  amber: 'yellow',
  moss: 'green',
  brick: 'red',
  ochre: 'yellow',
  slate: 'blueBright', // plain blue cannot be read on a dark ground
  quiet: 'gray',
  bold: 'bold',
};

function wantsColour(stream: NodeJS.WriteStream): boolean {
  const { NO_COLOR, FORCE_COLOR, TERM } = process.env;
  if (NO_COLOR !== undefined && NO_COLOR !== '') return false;
  if (FORCE_COLOR !== undefined && FORCE_COLOR !== '0') return true;
  return stream.isTTY === true && TERM !== 'dumb';
}

/** Paints for one stream; plain text where colours are not wanted. */
export function painter(stream: NodeJS.WriteStream): (style: Style, text: string) => string {
  const colour = wantsColour(stream);
  return (style, text) => (colour ? styleText(styles[style], text) : text);
}

export const onOut = painter(process.stdout);
export const onErr = painter(process.stderr);

const unicode =
  process.platform !== 'win32' &&
  process.env.TERM !== 'linux' &&
  !/^(C|POSIX)$/.test(process.env.LC_ALL ?? process.env.LC_CTYPE ?? process.env.LANG ?? 'UTF-8');
export const symbols = unicode
  ? { out: '→', in: '←', ok: '✓', failed: '✗', warn: '!', dot: '·', bar: '━', track: '─' }
  : { out: '->', in: '<-', ok: 'ok', failed: 'x', warn: '!', dot: '-', bar: '#', track: '.' };

/** Results go to stdout, and nothing else: what the user's own code prints is led to stderr while it runs in this process. */
let guarded: ReturnType<typeof guardStdout> | undefined;

export function keepStdoutForResults(): void {
  guarded ??= guardStdout(() =>
    note(`${onErr('ochre', symbols.warn)} Your code printed to stdout. It is shown here, so that stdout holds the result only.`),
  );
}

export function print(text: string): void {
  const line = `${text}\n`;
  if (guarded !== undefined) guarded.write(line);
  else process.stdout.write(line);
}

/** Bytes as they are, for a pipe or a file. */
export function printBytes(bytes: Uint8Array): void {
  if (guarded !== undefined) guarded.write(bytes);
  else process.stdout.write(bytes);
}

/** Resolves when all that was printed has left. */
export async function flushed(): Promise<void> {
  const write = (done: () => void) => (guarded === undefined ? process.stdout.write('', done) : guarded.write('', done));
  await Promise.all([new Promise<void>((resolve) => void write(resolve)), new Promise<void>((resolve) => void process.stderr.write('', () => resolve()))]);
}

/** A line for the person at the terminal. */
export function note(text: string): void {
  process.stderr.write(`${text}\n`);
}

export function width(stream: NodeJS.WriteStream = process.stdout): number {
  return Math.max(40, Math.min(stream.columns ?? (Number(process.env.COLUMNS) || 100), 120));
}

/** Breaks text into lines of at most `columns`, at spaces; what the text itself breaks stays broken. */
export function wrap(text: string, columns: number): string[] {
  const lines: string[] = [];
  for (const paragraph of text.split('\n')) {
    let line = '';
    for (const word of paragraph.trim().split(/\s+/)) {
      if (line !== '' && line.length + 1 + word.length > columns) {
        lines.push(line);
        line = word;
      } else line = line === '' ? word : `${line} ${word}`;
    }
    lines.push(line);
  }
  return lines;
}

export function duration(ms: number): string {
  return ms < 1000
    ? `${Math.round(ms)} ms`
    : ms < 60_000
      ? `${(ms / 1000).toFixed(1)} s`
      : `${Math.floor(ms / 60_000)} min ${Math.round((ms % 60_000) / 1000)} s`;
}

/** Rows under headings, each column as wide as its widest cell, the last one wrapped to the width there is. */
export function table(headings: readonly string[], rows: readonly (readonly string[])[], columns = width()): string[] {
  const last = headings.length - 1;
  const widths = headings.map((heading, index) => Math.max(heading.length, ...rows.map((row) => row[index]?.length ?? 0)));
  const before = widths.slice(0, last).reduce((sum, each) => sum + each + 2, 0);
  const room = Math.max(20, columns - before);
  const lines = [
    onOut('quiet', headings.map((heading, index) => (index === last ? heading : heading.padEnd(widths[index]! + 2))).join('')),
  ];
  for (const row of rows) {
    const [first = '', ...more] = wrap(row[last] ?? '', room);
    lines.push(
      row
        .slice(0, last)
        .map((cell, index) => cell.padEnd(widths[index]! + 2))
        .join('') + first,
    );
    for (const line of more) lines.push(' '.repeat(before) + line);
  }
  return lines;
}
