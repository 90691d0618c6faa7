import type { TargetKind } from '../targets/target-kind.js';
import type { Opening } from './command.js';
import { choiceOptions } from './options.js';

/** The words that say the same on a command line: `--only 'GET *' --base-url https://…`. */
export function argumentsOf({ choice = {}, options = {} }: Opening, { options: own = [] }: Pick<TargetKind, 'options'>): string[] {
  const flags = [...choiceOptions, ...own].map((option) => option.flags.split(' ')[0]!);
  return flags.flatMap((flag) => {
    const key = flag.slice(2).replaceAll(/-([a-z])/g, (_, letter: string) => letter.toUpperCase());
    return wordsOf(flag, (choice as Record<string, unknown>)[key] ?? options[key]);
  });
}

function wordsOf(flag: string, value: unknown): string[] {
  if (value === undefined || value === false) return [];
  if (value === true) return [flag];
  if (Array.isArray(value)) return value.flatMap((each) => [flag, String(each)]);
  if (typeof value === 'object' && value !== null) return Object.entries(value).flatMap(([key, each]) => [flag, `${key}=${String(each)}`]);
  return [flag, String(value)];
}
