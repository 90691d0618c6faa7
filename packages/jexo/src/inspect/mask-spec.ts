import { isSecretSetting } from '../protocol/secret-names.js';
import { withoutPassword } from '../protocol/without-password.js';
import type { ConnectionSpec } from './connection.js';

const hidden = '(masked)';

/** Secrets of a connection stay on the bench: the page sees that there is one. Any header that a person gives may be one, whatever its name. */
export function maskSpec(spec: ConnectionSpec): ConnectionSpec {
  const env = spec.env && Object.fromEntries(Object.entries(spec.env).map(([key, value]) => [key, isSecretSetting(key) ? hidden : value]));
  return {
    ...spec,
    target: withoutPassword(spec.target),
    ...(spec.command && { command: spec.command.map(withoutPassword) }),
    ...(env && { env }),
    ...(spec.headers && { headers: Object.fromEntries(Object.keys(spec.headers).map((name) => [name, hidden])) }),
  };
}

/** What came back masked is what it was. */
export function unmaskSpec(spec: ConnectionSpec, before: ConnectionSpec): ConnectionSpec {
  const restore = (now?: Readonly<Record<string, string>>, old?: Readonly<Record<string, string>>) =>
    now && Object.fromEntries(Object.entries(now).map(([key, value]) => [key, value === hidden ? (old?.[key] ?? '') : value]));
  const env = restore(spec.env, before.env);
  const headers = restore(spec.headers, before.headers);
  const again = (now: string, old: string | undefined) => (old !== undefined && now === withoutPassword(old) ? old : now);
  const command = spec.command?.map((word, index) => again(word, before.command?.[index]));
  return {
    ...spec,
    target: again(spec.target, before.target),
    ...(command && { command }),
    ...(env && { env }),
    ...(headers && { headers }),
  };
}
