/** `apiKey`, `API_KEY` and `api-key` as `api-key`. */
const words = (name: string) =>
  name
    .replaceAll(/([a-z0-9])([A-Z])/g, '$1-$2')
    .replaceAll(/[\s_.]+/g, '-')
    .toLowerCase();

const always = /(?:^|-)(?:authorization|(?:set-)?cookie|passw(?:or)?d|passphrase|secret|credential)s?$/;
const accessToken = /(?:^|(?:access|refresh|id|auth|bearer|csrf|session|security)-)token$/;
const accessKey = /(?:^|-)(?:api|access|private|secret|signing|encryption)-?key$/;

/** True for a field of a message whose value is a secret by its name: `password`, `access_token`, `Authorization`. */
export function isSecretField(name: string): boolean {
  const plain = words(name);
  return (
    (always.test(plain) || accessToken.test(plain) || accessKey.test(plain) || plain === 'mcp-session-id') && plain !== 'progress-token'
  );
}

/** True for a header, a query parameter or a variable of the environment that holds a secret by its name; wider than for a field. */
export function isSecretSetting(name: string): boolean {
  return isSecretField(name) || /(?:^|-)(?:key|token|auth|session|sid|sig|signature|secret|password|credential)s?(?:$|-)/.test(words(name));
}
