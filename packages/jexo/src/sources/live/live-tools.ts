import { JexoError } from '../../errors.js';
import type { Call } from '../../offers/call.js';
import { nearest } from '../../offers/nearest.js';
import { describeIssues, type JsonSchemaInput } from '../../offers/schema.js';
import type { ToolOffer } from '../../offers/offer.js';
import { tool } from '../../offers/tool.js';
import { compileCheck } from '../../offers/json-schema-check.js';
import { faultOf, type LiveBoard, type LivePoint } from './live-board.js';
import { meaningOf, showValue, type LiveAccess, type LiveValue, type ShownValue } from './live-value.js';

/** What the tools of live values work on. */
export interface LiveContext {
  readonly name: string;
  readonly about: string | undefined;
  /** Stands before the names of the tools. */
  readonly prefix: string;
  readonly board: LiveBoard;
  readonly access: LiveAccess;
  /** Asks a person before a value is written. */
  readonly confirms: boolean;
  isConnected(): boolean;
}

const mostAtOnce = 200;
const describedValues = 12;

/** `read_values` and `history`, and `write_value` where there is something to write. */
export function liveTools(context: LiveContext): ToolOffer[] {
  const writable = [...context.board.values.values()].filter(({ write }) => write !== undefined);
  return [readTool(context), historyTool(context), ...(writable.length > 0 && context.access.write ? [writeTool(context, writable)] : [])];
}

/** Some of the values as a model sees them: `tank1/level (l)`, `pump1/state (idle, running)`. */
function guide({ board }: LiveContext): string {
  const all = [...board.values.values()];
  const some = all.slice(0, describedValues).map(({ path, unit, words, title }) => {
    const more = [title, unit, words && Object.values(words).slice(0, 6).join(', ')].filter(Boolean).join('; ');
    return more === '' ? path : `${path} (${more})`;
  });
  const rest = all.length > some.length ? `, and ${all.length - some.length} more` : '';
  return all.length === 0 ? 'There are no values yet.' : `Values: ${some.join(', ')}${rest}.`;
}

const shown = {
  type: 'object',
  properties: {
    path: { type: 'string' },
    title: { type: 'string' },
    value: { description: 'missing when it has none yet' },
    unit: { type: 'string' },
    means: { type: 'string', description: 'the value in words' },
    at: { type: 'string', description: 'when it was taken' },
    ageSeconds: { type: 'number' },
    isStale: { type: 'boolean' },
    note: { type: 'string' },
  },
  required: ['path'],
} as const;

/** A pattern such as `tank1/*`, or `**` for everything, as an expression. */
const patternOf = (pattern: string): RegExp =>
  new RegExp(
    `^${pattern
      .replaceAll(/[.+?^${}()|[\]\\]/g, '\\$&')
      .replaceAll('**', '\u0000')
      .replaceAll('*', '[^/]*')
      .replaceAll('\u0000', '.*')}$`,
  );

/** @throws JexoError for a path that names nothing */
function matching({ values }: LiveBoard, wanted: string): LiveValue[] {
  const own = values.get(wanted);
  if (own !== undefined) return [own];
  const pattern = patternOf(wanted.includes('*') ? wanted.replaceAll(/\*{3,}/g, '**') : `${wanted.replace(/\/$/, '')}/**`);
  const found = [...values.values()].filter(({ path }) => pattern.test(path));
  if (found.length > 0) return found;
  if (values.size === 0) return [];
  const like = nearest(wanted, values.keys());
  throw new JexoError('JEXO_INPUT_INVALID', `No value is called ${wanted}.${like === undefined ? '' : ` Did you mean ${like}?`}`, {
    where: 'paths',
  });
}

/** Reads a value, or says why it cannot be read. */
export async function readShown({ board, isConnected }: LiveContext, described: LiveValue, signal: AbortSignal): Promise<ShownValue> {
  try {
    return showValue(described, await board.reading(described.path, signal), Date.now(), isConnected());
  } catch (error) {
    signal.throwIfAborted();
    return { path: described.path, note: faultOf(error) };
  }
}

function readTool(context: LiveContext): ToolOffer {
  const { name, about, prefix, board } = context;
  return tool(
    `${prefix}read_values`,
    {
      title: `Read values of ${name}`,
      description: `Reads values of ${name} as they are now, with unit, meaning and age.${about === undefined ? '' : ` ${about}`} ${guide(context)} A path may have * for one part and ** for several.`,
      input: {
        type: 'object',
        properties: {
          paths: {
            type: 'array',
            items: { type: 'string', maxLength: 500 },
            minItems: 1,
            maxItems: 100,
            description: 'such as tank1/level, tank1/*, **',
          },
        },
        required: ['paths'],
        additionalProperties: false,
      },
      output: { type: 'object', properties: { values: { type: 'array', items: shown }, note: { type: 'string' } }, required: ['values'] },
      annotations: { readOnlyHint: true, openWorldHint: false },
    },
    async ({ paths }, call) => {
      const found = new Map(paths.flatMap((path) => matching(board, path)).map((each) => [each.path, each]));
      const some = [...found.values()].slice(0, mostAtOnce);
      const values = await Promise.all(some.map((each) => readShown(context, each, call.signal)));
      const cut = found.size - some.length;
      const note =
        board.values.size === 0 ? 'There are no values yet.' : cut > 0 ? `${cut} more values match. Ask for fewer at once.` : undefined;
      return { values, ...(note !== undefined && { note }) };
    },
  );
}

const usualMinutes = 60;
const usualPoints = 120;

function historyTool(context: LiveContext): ToolOffer {
  const { name, prefix, board } = context;
  return tool(
    `${prefix}history`,
    {
      title: `History of a value of ${name}`,
      description: `Gives the course of one value of ${name} over the last minutes, as far as it was kept. Numbers are averaged over equal spans when there are more points than asked for.`,
      input: {
        type: 'object',
        properties: {
          path: { type: 'string', maxLength: 500, description: `as ${prefix}read_values takes it, without *` },
          minutes: {
            type: 'number',
            exclusiveMinimum: 0,
            maximum: 525_600,
            description: `back from now; ${usualMinutes} unless you say otherwise`,
          },
          points: { type: 'integer', minimum: 2, maximum: 1000, description: `at most; ${usualPoints} unless you say otherwise` },
        },
        required: ['path'],
        additionalProperties: false,
      },
      output: {
        type: 'object',
        properties: {
          path: { type: 'string' },
          unit: { type: 'string' },
          points: {
            type: 'array',
            items: {
              type: 'object',
              properties: { at: { type: 'string', format: 'date-time' }, value: {}, means: { type: 'string' } },
              required: ['at', 'value'],
            },
          },
          note: { type: 'string' },
        },
        required: ['path', 'points'],
      },
      annotations: { readOnlyHint: true, openWorldHint: false },
    },
    async ({ path, minutes = usualMinutes, points: most = usualPoints }, call) => {
      const described = matching(board, path)[0];
      if (described === undefined) return { path, points: [], note: 'There are no values yet.' };
      if (described.path !== path)
        throw new JexoError('JEXO_INPUT_INVALID', `${path} is several values; the history is that of one, such as ${described.path}.`, {
          where: 'path',
        });
      await readShown(context, described, call.signal);
      const since = Date.now() - minutes * 60_000;
      const all = board.history(path);
      const within = all.filter(({ at }) => at >= since);
      const { points, note } = fewer(within, most);
      const begins = all[0] !== undefined && all[0].at > since ? `What is kept begins at ${new Date(all[0].at).toISOString()}.` : undefined;
      const notes = [note, begins].filter((each) => each !== undefined);
      return {
        path,
        ...(described.unit !== undefined && { unit: described.unit }),
        points: points.map(({ at, value }) => {
          const means = meaningOf(value, described.words);
          return { at: new Date(at).toISOString(), value, ...(means !== undefined && { means }) };
        }),
        ...(notes.length > 0 && { note: notes.join(' ') }),
      };
    },
  );
}

/** At most so many points: numbers are averaged over equal spans, of anything else the last ones are kept. */
function fewer(all: readonly LivePoint[], most: number): { readonly points: readonly LivePoint[]; readonly note?: string } {
  if (all.length <= most) return { points: all };
  if (!all.every(({ value }) => typeof value === 'number'))
    return { points: all.slice(-most), note: `Only the last ${most} of ${all.length} points are shown.` };
  const from = all[0]!.at;
  const span = (all.at(-1)!.at - from + 1) / most;
  const groups = new Map<number, LivePoint[]>();
  for (const point of all) {
    const group = Math.floor((point.at - from) / span);
    groups.set(group, [...(groups.get(group) ?? []), point]);
  }
  const points = [...groups.values()].map((group) => ({
    at: group.at(-1)!.at,
    value: Number((group.reduce((sum, { value }) => sum + (value as number), 0) / group.length).toPrecision(12)),
  }));
  return { points, note: `${all.length} points, averaged over spans of ${(span / 1000).toPrecision(3)} s.` };
}

function writeTool(context: LiveContext, writable: readonly LiveValue[]): ToolOffer {
  const { name, prefix, access, board, confirms } = context;
  const paths = writable.map(({ path }) => path);
  return tool(
    `${prefix}write_value`,
    {
      title: `Write a value of ${name}`,
      description: `Writes one value of ${name}. ${writable
        .slice(0, describedValues)
        .map(
          ({ path, description, unit }) =>
            `${path}${unit === undefined ? '' : ` (${unit})`}${description === undefined ? '' : `: ${description}`}`,
        )
        .join('; ')}.${confirms ? ' A person confirms it.' : ''}`,
      input: {
        type: 'object',
        properties: {
          path: { type: 'string', enum: paths },
          value:
            writable.length === 1
              ? writable[0]!.write!
              : { anyOf: dedupe(writable.map(({ write }) => write!)), description: 'as the path takes it' },
        },
        required: ['path', 'value'],
        additionalProperties: false,
      },
      output: { type: 'object', properties: { path: { type: 'string' }, before: {}, written: {} }, required: ['path', 'written'] },
      annotations: { readOnlyHint: false, destructiveHint: true, idempotentHint: true, openWorldHint: true },
    },
    async (input: unknown, call: Call) => {
      const { path, value } = input as { path: string; value: unknown };
      const described = board.values.get(path);
      if (described?.write === undefined)
        throw new JexoError('JEXO_INPUT_INVALID', `${path} cannot be written any more.`, { where: 'path' });
      requireFit(described, value);
      const before = (await readShown(context, described, call.signal)).value;
      const means = meaningOf(value, described.words);
      if (confirms)
        await call.ask(
          `Write ${JSON.stringify(value)}${means === undefined ? '' : ` (${means})`}${described.unit === undefined ? '' : ` ${described.unit}`} to ${described.title ?? path}?${before === undefined ? '' : ` It is ${JSON.stringify(before)} now.`}`,
          { type: 'object', properties: {} },
        );
      await access.write!(path, value, call.signal);
      return { path, ...(before !== undefined && { before }), written: value };
    },
  );
}

const dedupe = <T>(all: readonly T[]): T[] => [...new Map(all.map((each) => [JSON.stringify(each), each])).values()];

/** @throws JexoError JEXO_INPUT_INVALID for a value that a path does not take */
function requireFit({ path, write }: LiveValue, value: unknown): void {
  const checked = compileCheck(write as JsonSchemaInput, path)(value);
  if (checked.ok) return;
  throw new JexoError('JEXO_INPUT_INVALID', `${path} does not take ${JSON.stringify(value)}: ${describeIssues(checked.issues)}`, {
    where: 'value',
  });
}
