/** One challenge of a `WWW-Authenticate` header (RFC 9110, 11.6.1). */
export interface Challenge {
  /** In lower case: `bearer`. */
  readonly scheme: string;
  /** By names in lower case; of one that comes twice, the first. */
  readonly params: Readonly<Record<string, string>>;
}

/** Reads a `WWW-Authenticate` header, which may hold several challenges. What follows something that cannot be read is passed over. */
export function readChallenges(header: string): Challenge[] {
  const challenges: { scheme: string; params: Record<string, string> }[] = [];
  const word = /[\s,]*([\w!#$%&'*+.^`|~-]+)(?:\s*=\s*(?:"((?:[^"\\]|\\.)*)"|([^\s,"]*)))?/gy;
  for (let found = word.exec(header); found !== null; found = word.exec(header)) {
    const [, name, quoted, plain] = found as unknown as [string, string, string | undefined, string | undefined];
    if (quoted === undefined && plain === undefined)
      challenges.push({ scheme: name.toLowerCase(), params: Object.create(null) as Record<string, string> });
    else {
      const params = challenges.at(-1)?.params;
      if (params !== undefined) params[name.toLowerCase()] ??= quoted?.replaceAll(/\\(.)/g, '$1') ?? plain!;
    }
  }
  return challenges;
}

/** The challenge for an access token, when there is one. */
export function tokenChallenge(header: string | undefined): Challenge | undefined {
  return readChallenges(header ?? '').find(({ scheme }) => scheme === 'bearer' || scheme === 'dpop');
}

/** Scopes as a text has them, each once. */
export function scopesIn(text: string | undefined): string[] {
  return [...new Set((text ?? '').split(/\s+/).filter((each) => each !== ''))];
}
