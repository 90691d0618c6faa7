import { resolve } from 'node:path';
import { createKey, readKeys, writeKeys, type KeptKey } from '../../auth/key-file.js';
import { oneKey } from '../../auth/keys.js';
import { JexoError } from '../../errors.js';
import type { CliCommand, Invocation } from '../command.js';
import { collect, json, number } from '../options.js';
import { note, onErr, onOut, print, printJson, symbols, table } from '../terminal.js';
import { counted } from '../../protocol/counted.js';

interface KeysOptions {
  readonly keys: string;
  readonly scope?: string[];
  readonly tag?: string[];
  readonly callsPerMinute?: number;
  readonly expires?: string;
  readonly json?: boolean;
}

const actions = ['add', 'list', 'revoke', 'rotate'] as const;
const usage = 'As in: jexo keys add lab --expires 2027-06-30';

/** Adds, lists, revokes and rotates keys of a file. */
async function manageKeys({ operands: [action, wanted], options }: Invocation<KeysOptions>): Promise<void> {
  const file = resolve(options.keys);
  switch (action) {
    case 'add':
      return add(file, need(wanted, 'Who is the key for?'), options);
    case 'list':
      return list(file, options);
    case 'revoke':
      return revoke(file, need(wanted, 'Which key?'), options);
    case 'rotate':
      return rotate(file, need(wanted, 'Which key?'), options);
    default:
      throw new JexoError('JEXO_USAGE', `keys can ${actions.join(', ')}${action === undefined ? '' : `, not ${action}`}.`, { next: usage });
  }
}

function need(text: string | undefined, question: string): string {
  if (text === undefined) throw new JexoError('JEXO_USAGE', question, { next: usage });
  return text;
}

function dateOf(text: string | undefined): string | undefined {
  if (text === undefined) return undefined;
  const ms = Date.parse(text);
  if (Number.isNaN(ms) || ms <= Date.now())
    throw new JexoError('JEXO_USAGE', `--expires is ${text}, which is no day to come.`, { next: 'Write it as 2027-06-30.' });
  return new Date(ms).toISOString();
}

function add(file: string, name: string, { scope, tag, callsPerMinute, expires, ...options }: KeysOptions): void {
  const until = dateOf(expires);
  const all = readKeys(file, false);
  const { key, kept } = createKey({
    name,
    ...(scope && { scopes: scope }),
    ...(tag && { tags: tag }),
    ...(callsPerMinute !== undefined && { callsPerMinute }),
    ...(until !== undefined && { expires: until }),
  });
  writeKeys(file, [...all.values(), kept]);
  show(key, kept, options, `is added to ${file}`);
}

function show(key: string, { hash: _, ...kept }: KeptKey, { json: asJson }: Pick<KeysOptions, 'json'>, what: string): void {
  if (asJson) return printJson(JSON.stringify({ key, ...kept }, null, 2));
  note(`${onErr('moss', symbols.ok)} A key for ${onErr('bold', kept.name)} ${what}. It is shown this once:`);
  print(key);
  note(`  Send it as: Authorization: Bearer ${key.slice(0, 15)}…`);
}

function list(file: string, { json: asJson }: KeysOptions): void {
  const all = [...readKeys(file, true).values()].map(({ hash: _, ...kept }) => kept);
  if (asJson) return printJson(JSON.stringify({ keys: all }, null, 2));
  const day = (text: string | undefined) => text?.slice(0, 10) ?? symbols.dot;
  const state = ({ expires }: Pick<KeptKey, 'expires'>) =>
    expires !== undefined && Date.parse(expires) <= Date.now() ? onOut('brick', 'expired') : 'good';
  for (const line of table(
    ['id', 'name', 'state', 'created', 'expires', 'scopes', 'tags', 'calls a minute'],
    all.map((key) => [
      key.id,
      key.name,
      state(key),
      day(key.created),
      day(key.expires),
      key.scopes?.join(' ') ?? symbols.dot,
      key.tags?.join(' ') ?? symbols.dot,
      String(key.callsPerMinute ?? symbols.dot),
    ]),
  ))
    print(line);
  note(onErr('quiet', `${counted(all.length, 'key')} in ${file}`));
}

function revoke(file: string, wanted: string, { json: asJson }: KeysOptions): void {
  const all = readKeys(file, true);
  const { id, name } = oneKey(wanted, all, file);
  all.delete(id);
  writeKeys(file, all.values());
  if (asJson) return printJson(JSON.stringify({ revoked: id, name }, null, 2));
  note(`${onErr('moss', symbols.ok)} The key ${id} of ${name} is revoked. Running servers take that up within a second.`);
}

function rotate(file: string, wanted: string, options: KeysOptions): void {
  const all = readKeys(file, true);
  const { id, name, scopes, tags, callsPerMinute, expires } = oneKey(wanted, all, file);
  const until = dateOf(options.expires) ?? expires;
  const { key, kept } = createKey({
    name,
    ...(scopes && { scopes }),
    ...(tags && { tags }),
    ...(callsPerMinute !== undefined && { callsPerMinute }),
    ...(until !== undefined && { expires: until }),
  });
  all.delete(id);
  writeKeys(file, [...all.values(), kept]);
  show(key, kept, options, `takes the place of ${id}`);
}

export const command: CliCommand<KeysOptions> = {
  name: 'keys',
  about: 'add, list, revoke and rotate the keys of callers',
  operands: [
    ['[action]', actions.join(', ')],
    ['[name]', 'who the key is for; to revoke or rotate, also its id'],
  ],
  options: [
    { flags: '--keys <file>', about: 'the file of keys', default: 'keys.json' },
    { flags: '--scope <scope>', about: 'a scope its holder has; may be repeated', read: collect },
    { flags: '--tag <tag>', about: 'its holder sees only offers with this tag; may be repeated', read: collect },
    { flags: '--calls-per-minute <n>', about: 'calls its holder may make in a minute', read: number('--calls-per-minute', 1, 1_000_000) },
    { flags: '--expires <day>', about: 'from when it no longer counts, such as 2027-06-30' },
    json,
  ],
  help: `Examples:
  jexo keys add lab --tag inspections --expires 2027-06-30
  jexo keys list
  jexo keys rotate lab
  jexo keys revoke lab
  jexo serve apiary.ts --http 4300 --host 0.0.0.0 --keys keys.json

A key is shown once; the file holds its hash alone. Running servers take up changes within a second.`,
  run: manageKeys,
};
