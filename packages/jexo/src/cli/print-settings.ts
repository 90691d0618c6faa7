import type { NeededSetting } from '../offers/source.js';
import { serveSettings, variableOf } from '../plans/serve-settings.js';
import { isSecretSetting } from '../protocol/secret-names.js';
import type { Opening } from './command.js';
import { isFromEnvFile } from './env-file.js';
import type { Origin, ResolvedSettings } from '../plans/resolve-settings.js';
import { print, table } from './terminal.js';

/** One line of what is printed. */
interface Shown {
  readonly name: string;
  readonly value: unknown;
  readonly from: string;
}

const masked = '(hidden)';

/** Prints every setting with its value and where it came from; secrets are masked. */
export function printSettings(
  { values, origins }: ResolvedSettings,
  opening: Opening,
  needed: readonly NeededSetting[],
  asJson: boolean,
): void {
  const own = [...origins].map(([name, origin]): Shown => {
    const setting = serveSettings.find((each) => each.name === name);
    const variable = setting === undefined ? `JEXO_${name.toUpperCase()}` : variableOf(setting.flags);
    return { name, value: values[name] ?? false, from: originShown(origin, variable, setting?.flags.split(' ')[0]) };
  });
  const chosen = Object.entries({ ...opening.choice, ...opening.options }).map(([name, value]): Shown => ({
    name,
    value: isSecretSetting(name) || name === 'header' ? masked : value,
    from: 'option',
  }));
  const variables = needed.map(({ variable, secret, purpose }): Shown => {
    const value = process.env[variable];
    const from = value === undefined ? `not set: ${purpose}` : isFromEnvFile(variable) ? '.env' : 'environment';
    return { name: variable, value: value === undefined ? undefined : secret || isSecretSetting(variable) ? masked : value, from };
  });
  const all = [...own, ...chosen, ...variables];
  if (asJson) return print(JSON.stringify({ settings: all }, null, 2));
  print(
    table(
      ['setting', 'value', 'from'],
      all.map(({ name, value, from }) => [name, shown(value), from]),
    ).join('\n'),
  );
}

function originShown(origin: Origin, variable: string, flag: string | undefined): string {
  switch (origin) {
    case 'option':
      return flag ?? 'option';
    case 'environment':
      return isFromEnvFile(variable) ? `${variable} in .env` : variable;
    case 'plan':
      return 'plan file';
    case 'usual':
      return 'default';
    default:
      return origin;
  }
}

const shown = (value: unknown): string =>
  value === undefined
    ? '—'
    : typeof value === 'string'
      ? value
      : Array.isArray(value)
        ? value.join(', ')
        : typeof value === 'object' && value !== null
          ? JSON.stringify(value)
          : String(value as number);
