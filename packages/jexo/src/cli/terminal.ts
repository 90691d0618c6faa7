import { randomBytes } from 'node:crypto';
import { guardStdout } from '../transports/stdout-guard.js';

type Style = 'lake' | 'moss' | 'brick' | 'ochre' | 'heather' | 'quiet' | 'bold';
/** The numbers that turn a colour on and off. */
const styles: Record<Style, readonly [on: number, off: number]> = {
  lake: [36, 39],
  moss: [32, 39],
  brick: [31, 39],
  ochre: [33, 39],
  heather: [35, 39],
  quiet: [90, 39],
  bold: [1, 22],
};

function wantsColour(stream: NodeJS.WriteStream): boolean {
  const { NO_COLOR, FORCE_COLOR, TERM } = process.env;
  if (NO_COLOR !== undefined && NO_COLOR !== '') return false;
  if (FORCE_COLOR !== undefined && FORCE_COLOR !== '0') return true;
  return stream.isTTY === true && TERM !== 'dumb';
}

/**
 * What stands in texts of ours for a colour: nobody outside can write it, so that what a server sends can never steer the terminal.
 */
const mark = `\u0001${randomBytes(6).toString('hex')}`;
const marked = new RegExp(`${mark}\\[(\\d+)m`, 'g');
/** Control characters, and those that turn the direction of a line; not the end of a line and the tab. */

const controls = /[\u0000-\u0008\u000b-\u001f\u007f-\u009f\u200e\u200f\u202a-\u202e\u2066-\u2069]/g;

/** Paints for one stream; plain text where colours are not wanted. The colours come about when it is printed. */
export function painter(stream: NodeJS.WriteStream): (style: Style, text: string) => string {
  const colour = wantsColour(stream);
  return (style, text) => (colour ? `${mark}[${styles[style][0]}m${text}${mark}[${styles[style][1]}m` : text);
}

/** A text as a terminal may be given it: with our colours, and without any control character of somebody else's. */
export function presentable(text: string): string {
  if (text.search(controls) < 0) return text;
  // Every second part is the number of a colour.
  return text
    .split(marked)
    .map((part, index) => (index % 2 === 1 ? `\u001b[${part}m` : part.replaceAll(controls, '')))
    .join('');
}

export const onOut = painter(process.stdout);
export const onErr = painter(process.stderr);

const unicode =
  process.platform !== 'win32' &&
  process.env.TERM !== 'linux' &&
  !/^(C|POSIX)$/.test(process.env.LC_ALL ?? process.env.LC_CTYPE ?? process.env.LANG ?? 'UTF-8');
export const symbols = unicode
  ? { out: '→', in: '←', ok: '✓', failed: '✗', warn: '!', dot: '·', bar: '━', track: '─', prompt: '›' }
  : { out: '->', in: '<-', ok: 'ok', failed: 'x', warn: '!', dot: '-', bar: '#', track: '.', prompt: '>' };

/** Results go to stdout, and nothing else: what the user's own code prints is led to stderr while it runs in this process. */
let guarded: ReturnType<typeof guardStdout> | undefined;

export function keepStdoutForResults(): void {
  guarded ??= guardStdout(() =>
    note(`${onErr('ochre', symbols.warn)} Your code printed to stdout. It is shown here, so that stdout holds the result only.`),
  );
}

export function print(text: string): void {
  const line = `${presentable(text)}\n`;
  if (guarded !== undefined) guarded.write(line);
  else process.stdout.write(line);
}

/** JSON for a script: nothing is omitted, and what a terminal could mistake for orders is written with escapes. */
export function printJson(json: string): void {
  const line = `${json.replaceAll(controls, (letter) => `\\u${letter.charCodeAt(0).toString(16).padStart(4, '0')}`)}\n`;
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
  await Promise.all([
    new Promise<void>((resolve) => void write(resolve)),
    new Promise<void>((resolve) => void process.stderr.write('', () => resolve())),
  ]);
}

/** A line for the person at the terminal. */
export function note(text: string): void {
  process.stderr.write(`${presentable(text)}\n`);
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
