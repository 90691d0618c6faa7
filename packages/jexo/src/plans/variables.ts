import { readFile } from 'node:fs/promises';
import { join } from 'node:path';
import * as util from 'node:util';
import { JexoError } from '../errors.js';
import { env, type EnvSetting } from '../sources/setting.js';
import { isRecord } from '../protocol/is-record.js';

type Values = Readonly<Record<string, string | undefined>>;

/** The variables of a `.env` file in a folder; none when there is no such file. */
export async function readEnvFile(folder: string): Promise<Readonly<Record<string, string>>> {
  let text: string;
  try {
    text = await readFile(join(folder, '.env'), 'utf8');
  } catch {
    return {}; // most plans have none
  }
  const { parseEnv } = util as { parseEnv?: (text: string) => Record<string, string> };
  if (parseEnv !== undefined) return parseEnv(text);
  // Node 20.0 to 20.11 cannot read one.
  return Object.fromEntries(
    [...text.matchAll(/^\s*(?:export\s+)?([A-Za-z_]\w*)\s*=\s*(?:"([^"]*)"|'([^']*)'|([^#\n]*))/gm)].map(
      ([, name, double, single, bare]) => [name!, double ?? single ?? bare!.trim()],
    ),
  );
}

const reference = /\$(\$)?\{([A-Za-z_]\w*)(?::-([^}]*))?\}/g;
const alone = /^\$\{([A-Za-z_]\w*)(?::-([^}]*))?\}$/;

/** A text that is one variable, as a setting that is read when it is needed; anything else as it is filled in. */
export function settingOf(text: string, values: Values, where: string): string | EnvSetting {
  const [, name, fallback] = alone.exec(text) ?? [];
  return name === undefined ? interpolated(text, values, where) : env(name, fallback);
}

/** `${NAME}` and `${NAME:-default}` in a text, filled in; `$${` stands for itself. @throws JexoError JEXO_SETTING */
export function interpolated(text: string, values: Values, where: string): string {
  return text.replaceAll(reference, (all, escaped: string | undefined, name: string, fallback: string | undefined) => {
    if (escaped !== undefined) return all.slice(1);
    const value = values[name] || fallback;
    if (value === undefined)
      throw new JexoError('JEXO_SETTING', `${where}: the plan wants ${name}, which is not set.`, {
        where,
        next: `Set it where the server is started, put it into .env beside the plan, or give a default: \${${name}:-…}.`,
      });
    return value;
  });
}

/** Every text in a value, filled in. */
export function interpolate(value: unknown, values: Values, where: string): unknown {
  if (typeof value === 'string') return interpolated(value, values, where);
  if (Array.isArray(value)) return value.map((each) => interpolate(each, values, where));
  if (!isRecord(value)) return value;
  return Object.fromEntries(Object.entries(value).map(([key, each]) => [key, interpolate(each, values, where)]));
}

/** Every text in a value, as a setting. */
export function settings(value: unknown, values: Values, where: string): unknown {
  if (typeof value === 'string') return settingOf(value, values, where);
  if (!isRecord(value)) return value;
  return Object.fromEntries(Object.entries(value).map(([key, each]) => [key, settings(each, values, where)]));
}
