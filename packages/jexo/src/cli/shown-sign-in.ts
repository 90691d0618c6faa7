import type { KeptSignIn } from '../auth/sign-in/kept-sign-in.js';

/** What of a sign-in anybody may see: no token, no secret. */
export function publicPart({
  endpoint,
  resource,
  server,
  client,
  scopes,
  subject,
  expiresAt,
  refreshToken,
  signedInAt,
}: KeptSignIn): object {
  return {
    endpoint,
    resource,
    issuer: server.issuer,
    ...(subject !== undefined && { subject }),
    scopes,
    client: { id: client.id, by: client.by },
    signedInAt: new Date(signedInAt).toISOString(),
    ...(expiresAt !== undefined && { expiresAt: new Date(expiresAt).toISOString() }),
    isRenewed: refreshToken !== undefined,
  };
}

/** How long a sign-in holds, in words. */
export function until({ expiresAt, refreshToken }: KeptSignIn): string {
  if (refreshToken !== undefined) return 'renewed by itself';
  if (expiresAt === undefined) return 'until the server ends it';
  const minutes = Math.round((expiresAt - Date.now()) / 60_000);
  return minutes < 0
    ? 'which has ended'
    : minutes < 120
      ? `for ${minutes} minutes`
      : `until ${new Date(expiresAt).toISOString().slice(0, 16).replace('T', ' ')} UTC`;
}
