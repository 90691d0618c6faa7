/** Names of parameters whose values are secrets. */
const secrets = new Set([
  'access_token',
  'refresh_token',
  'id_token',
  'token',
  'code',
  'code_verifier',
  'client_secret',
  'client_assertion',
  'registration_access_token',
  'state',
  'subject_token',
  'password',
]);

/** Parameters as a trace may show them: secrets are masked, and what a signed token says is readable. */
export function withoutSecrets(parameters: Readonly<Record<string, unknown>>): Record<string, unknown> {
  return Object.fromEntries(
    Object.entries(parameters).map(([name, value]) => {
      if (!secrets.has(name)) return [name, value];
      const claims = typeof value === 'string' ? claimsOf(value) : undefined;
      return [name, claims === undefined ? '(masked)' : { masked: true, claims }];
    }),
  );
}

/** What a signed token says; nobody has checked it. Undefined for other tokens. */
export function claimsOf(token: string): Record<string, unknown> | undefined {
  const [, payload, signature] = token.split('.');
  if (payload === undefined || signature === undefined) return undefined;
  try {
    const bytes = Uint8Array.from(atob(payload.replaceAll('-', '+').replaceAll('_', '/')), (char) => char.charCodeAt(0));
    const value: unknown = JSON.parse(new TextDecoder().decode(bytes));
    return typeof value === 'object' && value !== null && !Array.isArray(value) ? (value as Record<string, unknown>) : undefined;
  } catch {
    return undefined; // not a signed token
  }
}
