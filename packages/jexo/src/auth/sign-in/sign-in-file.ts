import { createCipheriv, createDecipheriv, createHash, randomBytes } from 'node:crypto';
import { chmodSync, closeSync, existsSync, mkdirSync, openSync, readFileSync, rmSync, statSync, writeSync } from 'node:fs';
import { homedir } from 'node:os';
import { dirname, join } from 'node:path';
import { pause } from '../../engine/pause.js';
import { JexoError, messageOf } from '../../errors.js';
import { isRecord } from '../../protocol/is-record.js';
import { writePrivate } from '../write-private.js';
import { memorySignIns, type KeptSignIn, type SignInStore } from './kept-sign-in.js';

/** The keys of a person, as an operating system keeps them. */
export interface Keychain {
  /** A key of 32 bytes by its name, made when it is not there; undefined where there is no keychain. */
  key(name: string): Uint8Array | undefined;
}

/** Sign-ins in a file. */
export interface SignInFile extends SignInStore {
  /** The path. */
  readonly file: string;
  /** True when what is written is encrypted by a key of the keychain. */
  readonly isEncrypted: boolean;
}

/** Where this user’s sign-ins are kept: `JEXO_SIGN_INS`, or `jexo/sign-ins.json` in the user’s data folder (XDG Base Directory). */
export function signInPath(): string {
  const { JEXO_SIGN_INS, XDG_DATA_HOME } = process.env;
  return JEXO_SIGN_INS || join(XDG_DATA_HOME || join(homedir(), '.local', 'share'), 'jexo', 'sign-ins.json');
}

/** A lock that is older was left behind by a process that has died. */
const staleMs = 10 * 60_000;
const lookAgainMs = 50;

/**
 * Keeps sign-ins in a file that its owner alone can read; encrypted, where there is a keychain for the key. Several processes may use it at once.
 *
 * @param file default: `signInPath()`
 * @throws JexoError JEXO_SIGN_IN when the file cannot be read or written
 * @example
 * signIn({ store: signInFile() })
 */
export function signInFile(file = signInPath(), { keychain }: { readonly keychain?: Keychain } = {}): SignInFile {
  const key = keychain?.key('jexo sign-ins');
  const turns = memorySignIns();
  const fail = (what: string, error: unknown, next?: string) =>
    new JexoError('JEXO_SIGN_IN', `The sign-ins in ${file} cannot be ${what}: ${messageOf(error)}`, {
      where: file,
      cause: error,
      ...(next !== undefined && { next }),
    });
  const read = (): Map<string, KeptSignIn> => {
    if (!existsSync(file)) return new Map();
    try {
      requireOwn(file);
      const value: unknown = JSON.parse(readFileSync(file, 'utf8'));
      const list =
        isRecord(value) && typeof value.sealed === 'string' ? opened(value.sealed, key) : isRecord(value) ? value.signIns : undefined;
      if (!Array.isArray(list) || !list.every(isKept)) throw new Error('it holds something else than sign-ins');
      return new Map(list.map((each) => [each.endpoint, each]));
    } catch (error) {
      throw fail('read', error, 'Remove the file, and sign in again.');
    }
  };
  const write = (kept: ReadonlyMap<string, KeptSignIn>): void => {
    const list = [...kept.values()];
    const text = `${JSON.stringify(key === undefined ? { signIns: list } : { sealed: sealed(list, key) }, null, 2)}\n`;
    try {
      mkdirSync(dirname(file), { recursive: true, mode: 0o700 });
      writePrivate(file, text);
    } catch (error) {
      throw fail('written', error);
    }
  };
  return {
    file,
    isEncrypted: key !== undefined,
    get: (endpoint) => read().get(endpoint),
    list: () => [...read().values()],
    set: (endpoint, found) =>
      withLock(`${file}.lock`, async () => {
        const kept = read();
        if (found === undefined) kept.delete(endpoint);
        else kept.set(endpoint, found);
        write(kept);
      }),
    // A person may take minutes to sign in at one server; the others go on.
    alone: (endpoint, work) => turns.alone(endpoint, () => withLock(`${file}.${shortHash(endpoint)}.lock`, work)),
  };
}

const shortHash = (text: string) => createHash('sha256').update(text).digest('hex').slice(0, 12);

/** A file that others can read or write is made private before it is believed. @throws when it is somebody else’s */
function requireOwn(file: string): void {
  const { uid, mode } = statSync(file);
  const user = process.getuid?.();
  if (user === undefined) return;
  if (uid !== user && user !== 0) throw new Error('it is somebody else’s');
  if ((mode & 0o077) !== 0) chmodSync(file, 0o600);
}

/** Runs while no other process does the same; a lock whose process has died is taken. */
async function withLock<T>(lock: string, work: () => Promise<T>): Promise<T> {
  mkdirSync(dirname(lock), { recursive: true, mode: 0o700 });
  while (!taken(lock)) await pause(lookAgainMs);
  try {
    return await work();
  } finally {
    rmSync(lock, { force: true });
  }
}

function taken(lock: string): boolean {
  try {
    const handle = openSync(lock, 'wx', 0o600);
    writeSync(handle, String(process.pid));
    closeSync(handle);
    return true;
  } catch (error) {
    if ((error as NodeJS.ErrnoException).code !== 'EEXIST')
      throw new JexoError('JEXO_SIGN_IN', `${lock} cannot be made: ${messageOf(error)}`, { where: lock, cause: error });
    if (isLeftBehind(lock)) rmSync(lock, { force: true });
    return false;
  }
}

function isLeftBehind(lock: string): boolean {
  try {
    const { mtimeMs } = statSync(lock);
    const pid = Number(readFileSync(lock, 'utf8'));
    if (Date.now() - mtimeMs > staleMs) return true;
    if (!Number.isInteger(pid) || pid <= 0) return false; // it is being written
    process.kill(pid, 0);
    return false;
  } catch (error) {
    return (error as NodeJS.ErrnoException).code === 'ESRCH';
  }
}

function isKept(value: unknown): value is KeptSignIn {
  if (!isRecord(value) || !isRecord(value.server) || !isRecord(value.client)) return false;
  const { endpoint, resource, token, scopes, signedInAt, server, client } = value;
  return (
    [endpoint, resource, token, server.issuer, server.token_endpoint, client.id].every((each) => typeof each === 'string') &&
    Array.isArray(scopes) &&
    typeof signedInAt === 'number'
  );
}

/** AES-256-GCM: 12 bytes of nonce, 16 of tag, then what is encrypted; in Base64. */
function sealed(list: readonly KeptSignIn[], key: Uint8Array): string {
  const nonce = randomBytes(12);
  const cipher = createCipheriv('aes-256-gcm', key, nonce);
  const body = Buffer.concat([cipher.update(JSON.stringify(list), 'utf8'), cipher.final()]);
  return Buffer.concat([nonce, cipher.getAuthTag(), body]).toString('base64');
}

function opened(text: string, key: Uint8Array | undefined): unknown {
  if (key === undefined) throw new Error('it is encrypted, and there is no keychain with its key');
  const bytes = Buffer.from(text, 'base64');
  const decipher = createDecipheriv('aes-256-gcm', key, bytes.subarray(0, 12));
  decipher.setAuthTag(bytes.subarray(12, 28));
  return JSON.parse(Buffer.concat([decipher.update(bytes.subarray(28)), decipher.final()]).toString('utf8'));
}
