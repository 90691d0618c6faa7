import { resolve } from 'node:path';
import { serveSettings, variableOf, type ServeDefaults, type ServeSetting } from './serve-settings.js';
import { JexoError } from '../errors.js';

export const number = (name: string, least: number, most: number) => (text: string) => {
  const value = Number(text);
  if (text.trim() === '' || !Number.isInteger(value) || value < least || value > most)
    throw new JexoError('JEXO_USAGE', `${name} must be a whole number from ${least} to ${most}; ${JSON.stringify(text)} is not.`, {
      where: name,
    });
  return value;
};
export const port = (name: string) => number(name, 0, 65535);
/** Values of an option that may be repeated, each with commas between several. */
export const list = (text: string, before: unknown = []) => [
  ...(before as string[]),
  ...text
    .split(',')
    .map((each) => each.trim())
    .filter((each) => each !== ''),
];
/** Values of an option that may be repeated. */
export const collect = (text: string, before: unknown = []) => [...(before as string[]), text];

/** Where the value of a setting came from. */
export type Origin = 'option' | 'environment' | 'plan' | 'PORT' | 'HOST' | 'usual';

/** Every setting that has a value, with where it came from. */
export interface ResolvedSettings {
  readonly values: ServeDefaults;
  readonly origins: ReadonlyMap<keyof ServeDefaults, Origin>;
}

const longOf = (flags: string) => /^--[\w-]+/.exec(flags)![0];
/** The name under which the parser keeps a value. */
export const attributeOf = (flags: string) =>
  longOf(flags)
    .replace(/^--(?:no-)?/, '')
    .replaceAll(/-(\w)/g, (_all, letter: string) => letter.toUpperCase());

export function readerOf({
  flags,
  type,
  least = 0,
  most = Number.MAX_SAFE_INTEGER,
}: ServeSetting): ((text: string, before: unknown) => unknown) | undefined {
  const name = longOf(flags);
  switch (type) {
    case 'texts':
      return collect;
    case 'port':
      return port(name);
    case 'count':
      return number(name, least, most);
    case 'http':
      return (text) => (text === anyPort ? true : port(name)(text));
    default:
      return undefined;
  }
}

/** Stands for a port that was not named. */
export const anyPort = 'any';

/**
 * What holds: an option before a variable of the environment, before what the target says of itself, before the platform's PORT and HOST,
 * before what is usual.
 *
 * @param given the values of the options, and which of them were given
 * @throws JexoError JEXO_USAGE for a variable that cannot be read
 */
export function resolveSettings(
  given: { readonly values: Readonly<Record<string, unknown>>; readonly names: ReadonlySet<string> },
  environment: Readonly<Record<string, string | undefined>>,
  plan: ServeDefaults = {},
): ResolvedSettings {
  const values: Record<string, unknown> = {};
  const origins = new Map<keyof ServeDefaults, Origin>();
  const set = (name: keyof ServeDefaults, value: unknown, origin: Origin) => {
    values[name] = value;
    origins.set(name, origin);
  };
  for (const setting of serveSettings) {
    const { name, flags, usual } = setting;
    const attribute = attributeOf(flags);
    const variable = variableOf(flags);
    const text = environment[variable];
    const fromPlan = plan[name];
    if (given.names.has(attribute)) set(name, given.values[attribute], 'option');
    else if (text !== undefined && text !== '') set(name, fromText(setting, variable, text), 'environment');
    else if (fromPlan !== undefined) set(name, fromPlan, 'plan');
    else if (usual !== undefined) set(name, usual, 'usual');
  }
  for (const name of ['only', 'except'] as const) {
    const text = environment[`JEXO_${name.toUpperCase()}`];
    if (text !== undefined && text !== '') set(name, list(text), 'environment');
    else if (plan[name] !== undefined) set(name, plan[name], 'plan');
  }
  adoptPlatform(values, origins, environment, set);
  return { values: withoutNo(values), origins };
}

/** PORT says where to listen when HTTP is wanted anyhow: a host application that starts a server over stdio may have it set too. */
function adoptPlatform(
  values: Readonly<Record<string, unknown>>,
  origins: ReadonlyMap<keyof ServeDefaults, Origin>,
  { PORT, HOST }: Readonly<Record<string, string | undefined>>,
  set: (name: keyof ServeDefaults, value: unknown, origin: Origin) => void,
): void {
  if (values.http !== true || PORT === undefined || PORT === '') return;
  set('http', port('PORT')(PORT), 'PORT');
  // Some shells set HOST to the name of the machine: alone it means nothing.
  if (HOST !== undefined && HOST !== '' && origins.get('host') === 'usual') set('host', HOST, 'HOST');
}

/** A flag that was said to be off is as good as not given. */
const withoutNo = (values: Readonly<Record<string, unknown>>): ServeDefaults =>
  Object.fromEntries(Object.entries(values).filter(([name, value]) => value !== false || name === 'page'));

function fromText(setting: ServeSetting, variable: string, text: string): unknown {
  const { type } = setting;
  if (type === 'flag' || ((type === 'http' || type === 'log') && /^(?:true|false|yes|no)$/i.test(text))) return truth(variable, text);
  if (type === 'texts') return list(text);
  if (type === 'file') return resolve(text);
  try {
    return readerOf(setting)?.(text, undefined) ?? text;
  } catch (error) {
    throw error instanceof JexoError
      ? new JexoError('JEXO_USAGE', error.message.replace(/^--[\w-]+/, variable), { where: variable })
      : error;
  }
}

function truth(variable: string, text: string): boolean {
  if (/^(?:1|true|yes|on)$/i.test(text)) return true;
  if (/^(?:0|false|no|off)$/i.test(text)) return false;
  throw new JexoError('JEXO_USAGE', `${variable} must be true or false; ${JSON.stringify(text)} is neither.`, { where: variable });
}
