import type { ConnectionSpec } from './connection.js';
import { maskSecrets } from './recorder.js';

const hidden = '(masked)';

/** Secrets of a connection stay on the bench: the page sees that there is one. */
export function maskSpec(spec: ConnectionSpec): ConnectionSpec {
  const env =
    spec.env &&
    Object.fromEntries(Object.entries(spec.env).map(([key, value]) => [key, /key|token|secret|password/i.test(key) ? hidden : value]));
  return { ...spec, ...(env && { env }), ...(spec.headers && { headers: maskSecrets(spec.headers) as Record<string, string> }) };
}

/** What came back masked is what it was. */
export function unmaskSpec(spec: ConnectionSpec, before: ConnectionSpec): ConnectionSpec {
  const restore = (now?: Readonly<Record<string, string>>, old?: Readonly<Record<string, string>>) =>
    now && Object.fromEntries(Object.entries(now).map(([key, value]) => [key, value === hidden ? (old?.[key] ?? '') : value]));
  const env = restore(spec.env, before.env);
  const headers = restore(spec.headers, before.headers);
  return { ...spec, ...(env && { env }), ...(headers && { headers }) };
}
