import { JexoError } from '../errors.js';
import type { Settings } from '../offers/source.js';

const brand = Symbol.for('jexo.setting');

/** A value that is read from the environment when it is needed, so that no secret stands in the code. */
export interface EnvSetting {
  readonly [brand]: true;
  /** Its name. */
  readonly variable: string;
  /** Stands in for a variable that is not set. */
  readonly fallback?: string;
}
/** A value, or a variable of the environment that holds it; see `env`. */
export type Setting = string | EnvSetting;

/**
 * Names a variable of the environment. It is read when the server first needs it, not when it is defined.
 *
 * @param fallback what stands in for a variable that is not set
 * @example
 * wrapRest('./registry.openapi.yaml', { baseUrl: env('REGISTRY_URL'), auth: bearer(env('REGISTRY_TOKEN')) })
 */
export function env(variable: string, fallback?: string): EnvSetting {
  return { [brand]: true, variable, ...(fallback !== undefined && { fallback }) };
}

export function isEnvSetting(value: unknown): value is EnvSetting {
  return typeof value === 'object' && value !== null && brand in value;
}

/** @throws JexoError JEXO_SETTING when the variable is not set and has no fallback */
export function readSetting(setting: Setting, what: string, settings: Settings): string {
  if (typeof setting === 'string') return setting;
  const value = settings[setting.variable] ?? setting.fallback;
  if (value === undefined || value === '')
    throw new JexoError('JEXO_SETTING', `${what} is read from ${setting.variable}, which is not set.`, {
      where: setting.variable,
      next: `Set it where the server is started: ${setting.variable}=…`,
    });
  return value;
}
