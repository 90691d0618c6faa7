import { randomBytes } from 'node:crypto';
import { loadPackage } from '../../optional-package.js';
import type { Keychain } from './sign-in-file.js';

interface Entry {
  getPassword(): string | null;
  setPassword(password: string): void;
}
type Keyring = { readonly Entry: new (service: string, user: string) => Entry };

/**
 * The keychain of the operating system, by the optional package `@napi-rs/keyring`.
 * @returns undefined where the package is not installed, or there is no keychain that can be used
 */
export async function systemKeychain(): Promise<Keychain | undefined> {
  const found = await loadPackage<Keyring>('@napi-rs/keyring').catch(() => undefined);
  if (found === undefined) return undefined;
  const { Entry } = found;
  return {
    key(name) {
      try {
        const entry = new Entry('jexo', name);
        const kept = read(entry);
        if (kept !== undefined) return kept;
        entry.setPassword(randomBytes(32).toString('base64'));
        return read(entry);
      } catch {
        return undefined; // no keychain is running here, or it is locked
      }
    },
  };
}

function read(entry: Entry): Uint8Array | undefined {
  const text = entry.getPassword();
  const bytes = text === null ? undefined : Buffer.from(text, 'base64');
  return bytes?.length === 32 ? bytes : undefined;
}
