import { createLocalJWKSet, errors, type FlattenedJWSInput, type JSONWebKeySet, type JWSHeaderParameters } from 'jose';
import type { Clock } from '../../engine/clock.js';
import { JexoError } from '../../errors.js';
import { fetchJson } from './fetch-json.js';
import { readServerMetadata } from './server-metadata.js';

/** How long keys are used before they are fetched again; what is known goes on being used meanwhile. */
export const freshMs = 600_000;
/** How soon after a fetch another one may follow, for a key that is not known. */
const pauseMs = 30_000;

type LocalKeys = ReturnType<typeof createLocalJWKSet>;

/** The keys by which an issuer signs. */
export interface SigningKeys {
  /** The key of a token. @throws what `jose` throws when there is none; JexoError JEXO_SIGN_IN when the keys were never there */
  find(header: JWSHeaderParameters, token: FlattenedJWSInput): Promise<Awaited<ReturnType<LocalKeys>>>;
  /** Counts up when other keys came: what was checked by the old ones is checked again. */
  readonly edition: number;
}

/**
 * Keys of an issuer, fetched when they are first needed, again every ten minutes and when a token names a key that is not known. While the issuer
 * does not answer, the keys that are known stay.
 */
export function signingKeys(issuer: string, fetchBy: typeof fetch | undefined, note: (text: string) => void, clock: Clock): SigningKeys {
  let keys: LocalKeys | undefined;
  let text = '';
  let edition = 0;
  let fetchedAt = -Infinity;
  let triedAt = -Infinity;
  let fetching: Promise<void> | undefined;
  const load = async (): Promise<void> => {
    triedAt = clock.now();
    const { jwks_uri: place } = await readServerMetadata(issuer, fetchBy);
    if (typeof place !== 'string' || !URL.canParse(place))
      throw new JexoError('JEXO_SIGN_IN', `The metadata of ${issuer} names no keys (jwks_uri).`, { where: issuer });
    const found = await fetchJson(new URL(place), fetchBy);
    if (!Array.isArray(found?.keys)) throw new JexoError('JEXO_SIGN_IN', `${place} holds no keys.`, { where: place });
    // A secret among them would let anybody who reads it sign: such keys are none of an issuer's.
    const open = { keys: (found.keys as { kty?: string; d?: string }[]).filter(({ kty, d }) => kty !== 'oct' && d === undefined) };
    const next = JSON.stringify(open);
    if (next !== text) edition++;
    text = next;
    keys = createLocalJWKSet(open as JSONWebKeySet);
    fetchedAt = clock.now();
  };
  const fetchKeys = (): Promise<void> => (fetching ??= load().finally(() => (fetching = undefined)));
  return {
    get edition() {
      return edition;
    },
    async find(header, token) {
      const now = clock.now();
      if (keys === undefined) await fetchKeys();
      else if (now - fetchedAt > freshMs && now - triedAt > pauseMs)
        fetchKeys().catch((error: Error) =>
          note(`the keys of ${issuer} could not be fetched again; those that are known stay: ${error.message}`),
        );
      try {
        return await keys!(header, token);
      } catch (error) {
        if (!(error instanceof errors.JWKSNoMatchingKey) || clock.now() - triedAt < pauseMs) throw error;
        await fetchKeys();
        return keys!(header, token);
      }
    },
  };
}
