import { JexoError } from '../../errors.js';
import { fromEnvironment, suits, type Auth } from './auth.js';
import type { Secured, SecurityScheme } from './security.js';

export interface ProverOptions {
  /** One way to prove who we are for all, or one for each security scheme by its name. */
  readonly auth?: Auth | Readonly<Record<string, Auth>>;
  /** Variables in which secrets are looked for, by the name of the security scheme. */
  readonly secrets?: Readonly<Record<string, string>>;
}

/** How one scheme is satisfied. */
export interface Means {
  readonly scheme: SecurityScheme;
  readonly auth: Auth;
  /** False when the secret was only looked for in the environment, and may be missing. */
  readonly isDeclared: boolean;
}

/** What we have to prove who we are with. */
export interface AllMeans {
  readonly byScheme: ReadonlyMap<string, Means>;
  /** Sent with every request of a service that says nothing of security. */
  readonly plain: Auth | undefined;
  /** Schemes whose secrets are not looked for, because the document that names them is not on this disk. */
  readonly notTrusted: readonly string[];
}

/**
 * A document on this disk names the variables its secrets are looked for in. One from elsewhere could name any variable of this
 * machine and have it sent to its own server: there only variables that the developer has named are read.
 *
 * @throws JexoError JEXO_DEFINITION for a scheme that the service does not have
 */
export function meansFor(service: Secured, { auth, secrets = {} }: ProverOptions): AllMeans {
  const one = auth !== undefined && typeof (auth as Auth).kind === 'string' ? (auth as Auth) : undefined;
  const several = one === undefined ? (auth as Readonly<Record<string, Auth>> | undefined) : undefined;
  requireSchemes(service, 'secrets', Object.keys(secrets));
  requireSchemes(service, 'auth', Object.keys(several ?? {}));
  const byScheme = new Map<string, Means>();
  for (const [name, scheme] of Object.entries(service.schemes)) {
    const found = one !== undefined ? (suits(one, scheme) ? one : undefined) : (several?.[name] ?? undeclared(name, scheme));
    const isDeclared = auth !== undefined || secrets[name] !== undefined;
    if (found !== undefined) byScheme.set(name, { scheme, auth: found, isDeclared });
  }
  return {
    byScheme,
    plain: byScheme.size === 0 ? one : undefined,
    notTrusted:
      auth === undefined && service.isRemote
        ? Object.entries(service.schemes).flatMap(([name, scheme]) =>
            !(name in secrets) && fromEnvironment(name, scheme) !== undefined ? [name] : [],
          )
        : [],
  };

  function undeclared(name: string, scheme: SecurityScheme): Auth | undefined {
    if (auth !== undefined || (secrets[name] === undefined && service.isRemote)) return undefined;
    return fromEnvironment(name, scheme, secrets[name]);
  }
}

function requireSchemes({ schemes, title }: Secured, field: string, names: readonly string[]): void {
  for (const name of names)
    if (!Object.hasOwn(schemes, name))
      throw new JexoError('JEXO_DEFINITION', `${field} names ${name}, which is no security scheme of ${title}.`, {
        where: `${field}.${name}`,
        next: `Its schemes are: ${Object.keys(schemes).join(', ') || 'none'}.`,
      });
}
