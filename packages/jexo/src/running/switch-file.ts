import { readFileSync, statSync } from 'node:fs';
import { JexoError, messageOf } from '../errors.js';
import type { Server } from '../offers/define-server.js';
import type { Selection } from '../offers/selection.js';
import { isRecord } from '../protocol/is-record.js';

/** How often the file is looked at, in milliseconds. */
const lookEveryMs = 500;

/** A file that says what is switched on. */
export interface FollowedSwitches {
  /** Reads it again at once, whether it has changed or not. */
  readAgain(): void;
  /** No longer looks at the file; what is switched on stays so. */
  stop(): void;
}

/**
 * Switches the offers of a server by a file, now and whenever it changes: JSON or YAML, `{ "only": ["tag:scales"], "except": ["move_hive"] }`.
 * A file that goes bad changes nothing but what is told.
 *
 * @param note is told what became of a change
 * @throws JexoError JEXO_SWITCHES when it cannot be read at first
 * @example
 * const switches = await followSwitches(apiary, 'switches.json');
 */
export async function followSwitches(
  server: Server,
  file: string,
  note: (text: string) => void = (text) => console.error(`jexo: ${text}`),
): Promise<FollowedSwitches> {
  let stamp = stampOf(file);
  server.switch(await readSwitches(file));
  const read = async () => {
    try {
      const selection = await readSwitches(file);
      server.switch(selection);
      note(`${file} was read again: ${shown(selection)}`);
    } catch (error) {
      note(`${messageOf(error)} What was switched on stays so.`);
    }
  };
  // One after the other: the last one read is the one that holds.
  let reading = Promise.resolve();
  const readAgain = () => {
    stamp = stampOf(file);
    reading = reading.then(read);
  };
  const timer = setInterval(() => stampOf(file) !== stamp && readAgain(), lookEveryMs).unref();
  return { readAgain, stop: () => clearInterval(timer) };
}

/** @throws JexoError JEXO_SWITCHES */
export async function readSwitches(file: string): Promise<Selection> {
  const refuse = (why: string, cause?: unknown): never => {
    throw new JexoError('JEXO_SWITCHES', `The switches in ${file} cannot be used: ${why.replace(/\.$/, '')}.`, { where: file, cause });
  };
  let value: unknown;
  try {
    const text = readFileSync(file, 'utf8');
    value = /^\s*\{/.test(text) ? JSON.parse(text) : ((await yaml()).parse(text) ?? {});
  } catch (error) {
    return refuse(messageOf(error), error);
  }
  if (!isRecord(value)) return refuse('it holds no map');
  const unknown = Object.keys(value).find((key) => key !== 'only' && key !== 'except');
  if (unknown !== undefined) return refuse(`${unknown} is no key here; there are only and except`);
  for (const [key, each] of Object.entries(value))
    if (!Array.isArray(each) || !each.every((name) => typeof name === 'string')) return refuse(`${key} must be a list of texts`);
  return value;
}

/** Built in, the library is found under its default. */
async function yaml(): Promise<Yaml> {
  const loaded = (await import('yaml')) as unknown as Partial<Yaml> & { readonly default?: Yaml };
  return loaded.default ?? (loaded as Yaml);
}
type Yaml = Pick<typeof import('yaml'), 'parse'>;

const shown = ({ only, except }: Selection) =>
  [only && `only ${only.join(', ') || 'nothing'}`, except && except.length > 0 && `all but ${except.join(', ')}`]
    .filter(Boolean)
    .join('; ') || 'everything is on';

function stampOf(file: string): string {
  const found = statSync(file, { throwIfNoEntry: false });
  return found === undefined ? '' : `${found.ino} ${found.mtimeMs} ${found.size}`;
}
