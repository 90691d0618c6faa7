import { createHash, randomBytes, timingSafeEqual } from 'node:crypto';
import { existsSync, readFileSync } from 'node:fs';
import { after, type MaybePromise } from '../engine/store.js';
import { JexoError, messageOf } from '../errors.js';
import { isRecord } from '../protocol/is-record.js';
import { writePrivate } from './write-private.js';

/** A key as it is kept: only its hash. */
export interface KeptKey {
  /** Part of the key itself: it finds the hash. */
  readonly id: string;
  /** Who has it. */
  readonly name: string;
  /** SHA-256 of the secret part, in hexadecimal digits. */
  readonly hash: string;
  /** When it was made, as ISO 8601 has it. */
  readonly created: string;
  /** What its holder may do; see `scope` of an offer. */
  readonly scopes?: readonly string[];
  /** Its holder sees only offers with one of these tags. Default: all. */
  readonly tags?: readonly string[];
  /** Calls its holder may make in a minute. Default: any number. */
  readonly callsPerMinute?: number;
  /** From when it no longer counts. */
  readonly expires?: string;
}

/** A new key, which is shown once. */
export interface NewKey {
  readonly key: string;
  readonly kept: KeptKey;
}

const form = /^jexo_([0-9a-z]{10})_([\w-]{43})$/;

/** @param expires a day or a time; undefined for a key without an end */
export function createKey(about: Pick<KeptKey, 'name' | 'scopes' | 'tags' | 'callsPerMinute' | 'expires'>): NewKey {
  const id = BigInt(`0x${randomBytes(8).toString('hex')}`)
    .toString(36)
    .padStart(10, '0')
    .slice(-10);
  const secret = randomBytes(32).toString('base64url');
  const given = Object.fromEntries(Object.entries(about).filter(([, value]) => value !== undefined)) as typeof about;
  return { key: `jexo_${id}_${secret}`, kept: { id, ...given, hash: hashOf(secret).toString('hex'), created: new Date().toISOString() } };
}

// The secret has 256 random bits: nothing is gained by a slow hash.
const hashOf = (secret: string) => createHash('sha256').update(secret).digest();
let nobody: string | undefined;
const hashOfNobody = () => (nobody ??= hashOf(randomBytes(32).toString('base64url')).toString('hex'));

/** The key that was sent, if it counts. The time it takes does not depend on what is wrong with it. */
export function findKey(sent: string, keys: ReadonlyMap<string, KeptKey>, now = Date.now()): KeptKey | undefined {
  const [, id = '', secret = ''] = form.exec(sent) ?? [];
  return checked(keys.get(id), secret, now);
}

/** The same for keys that are kept elsewhere. */
export function findInStore(
  sent: string,
  store: { find(id: string): MaybePromise<KeptKey | undefined> },
): MaybePromise<KeptKey | undefined> {
  const [, id = '', secret = ''] = form.exec(sent) ?? [];
  return after(store.find(id), (kept) => checked(kept, secret, Date.now()));
}

/** True when a key no longer counts. */
export function isOver({ expires }: KeptKey, now: number): boolean {
  return expires !== undefined && Date.parse(expires) <= now;
}

function checked(kept: KeptKey | undefined, secret: string, now: number): KeptKey | undefined {
  // The same work is done for an id that nobody has.
  const hash = Buffer.from(kept?.hash ?? hashOfNobody(), 'hex');
  const sent = hashOf(secret);
  const isSame = hash.length === sent.length && timingSafeEqual(sent, hash);
  return kept !== undefined && isSame && !isOver(kept, now) ? kept : undefined;
}

/** Reads a file of keys. A file that is not there has none, unless it must be there. @throws JexoError JEXO_KEYS */
export function readKeys(file: string, mustExist: boolean): Map<string, KeptKey> {
  if (!existsSync(file)) {
    if (!mustExist) return new Map();
    throw new JexoError('JEXO_KEYS', `There is no file of keys ${file}.`, {
      where: file,
      next: `Make the first one with: jexo keys add <name> --keys ${file}`,
    });
  }
  let value: unknown;
  try {
    value = JSON.parse(readFileSync(file, 'utf8'));
  } catch (error) {
    throw new JexoError('JEXO_KEYS', `The file of keys ${file} cannot be read: ${messageOf(error)}`, { where: file, cause: error });
  }
  const keys = isRecord(value) && Array.isArray(value.keys) ? (value.keys as unknown[]) : undefined;
  if (keys === undefined || !keys.every(isKept))
    throw new JexoError('JEXO_KEYS', `${file} is no file of keys: { "keys": [{ "id", "name", "hash", "created" }] }.`, { where: file });
  return new Map(keys.map((key) => [key.id, key]));
}

function isKept(value: unknown): value is KeptKey {
  if (!isRecord(value)) return false;
  const { id, name, hash, expires, scopes, tags, callsPerMinute } = value;
  const isList = (given: unknown) => given === undefined || (Array.isArray(given) && given.every((each) => typeof each === 'string'));
  return (
    typeof id === 'string' &&
    typeof name === 'string' &&
    typeof hash === 'string' &&
    /^[0-9a-f]{64}$/.test(hash) &&
    (expires === undefined || !Number.isNaN(Date.parse(String(expires)))) &&
    isList(scopes) &&
    isList(tags) &&
    (callsPerMinute === undefined || (typeof callsPerMinute === 'number' && callsPerMinute >= 1))
  );
}

/** Writes the file in one step, for its owner alone, and reads it back. @throws JexoError JEXO_KEYS */
export function writeKeys(file: string, keys: Iterable<KeptKey>): void {
  const text = `${JSON.stringify({ keys: [...keys] }, null, 2)}\n`;
  try {
    writePrivate(file, text);
  } catch (error) {
    throw new JexoError('JEXO_KEYS', `The file of keys ${file} could not be written: ${messageOf(error)}`, { where: file, cause: error });
  }
}
