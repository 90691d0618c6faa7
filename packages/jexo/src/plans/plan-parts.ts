import { readFileSync } from 'node:fs';
import { basename, dirname, join, resolve } from 'node:path';
import { pathToFileURL } from 'node:url';
import type { ChainedTool, ChainStep } from '../offers/chain-tools.js';
import { choiceOptions, entryKinds } from './entry-kinds.js';
import { layerOf, type PlanLayer } from './plan-middleware.js';
import type { Plan, PlanEntry } from './read-plan.js';
import { interpolate, settingOf, settings } from './variables.js';

/** A value as code: what is not JSON is named. */
export interface Code {
  readonly code: string;
}

/** An entry, ready to be built or printed. */
export interface PlanPart {
  readonly kind: string;
  readonly where: string;
  readonly folder: string;
  /** What stands behind its key. */
  readonly place: unknown;
  readonly options: Readonly<Record<string, unknown>>;
  /** A choice among its offers that its options do not make themselves. */
  readonly choice: Readonly<Record<string, unknown>>;
  readonly isHidden: boolean;
}

type Values = Readonly<Record<string, string | undefined>>;

/** What a plan's server says of itself. @throws JexoError JEXO_SETTING */
export function aboutOf(
  plan: Plan,
  values: Values,
): { readonly name: string; readonly title?: string; readonly version: string; readonly instructions?: string } {
  const { name = nameOf(plan.file), title, version = '0.0.0', instructions } = plan;
  const given = { name, ...(title !== undefined && { title }), version, ...(instructions !== undefined && { instructions }) };
  return interpolate(given, values, plan.file) as ReturnType<typeof aboutOf>;
}

/** `apiary` of `apiary.jexo.yaml`. */
export const nameOf = (file: string): string =>
  basename(file)
    .replace(/(?:\.jexo)?\.\w+$/, '')
    .replaceAll(/[^\w.-]+/g, '_');

/** What runs around every call of a plan. @throws JexoError JEXO_SETTING */
export const layersOf = ({ middleware = [], file }: Plan, values: Values): readonly PlanLayer[] =>
  middleware.map((entry) => layerOf(interpolate(entry, values, file) as Record<string, unknown>, dirname(file)));

/** The sources of a plan, with variables filled in and paths made whole. @throws JexoError JEXO_SETTING */
export function partsOf(plan: Plan, values: Values): readonly PlanPart[] {
  return plan.entries.flatMap((entry) => (Object.hasOwn(entryKinds, entry.kind) ? [partOf(entry, values)] : []));
}

function partOf({ kind, value, where, folder }: PlanEntry, values: Values): PlanPart {
  const { options: known, choosesItself = false } = entryKinds[kind]!;
  const options: Record<string, unknown> = {};
  const choice: Record<string, unknown> = {};
  for (const [key, given] of Object.entries(value)) {
    if (key === kind || key === 'hidden') continue;
    const option = Object.hasOwn(known, key) ? known[key] : undefined;
    if (option === undefined && Object.hasOwn(choiceOptions, key))
      (choosesItself ? options : choice)[key] = interpolate(given, values, where);
    else if (option?.isSetting) options[key] = settings(given, values, where);
    else if (option?.isPath) options[key] = resolve(folder, interpolate(given, values, where) as string);
    else options[key] = interpolate(given, values, where);
  }
  const { place, more } = placeOf(kind, value[kind], { values, where, folder });
  return { kind, where, folder, place, options: { ...options, ...more }, choice, isHidden: value.hidden === true };
}

const isAddress = (text: string) => /^[a-z][a-z0-9+.-]+:/i.test(text);

/** What an entry is made of; paths are those from the plan's folder. */
function placeOf(
  kind: string,
  given: unknown,
  { values, where, folder }: { values: Values; where: string; folder: string },
): { place: unknown; more?: object } {
  if (Array.isArray(given)) return { place: interpolate(given, values, where) };
  const text = given as string;
  if (kind === 'database' || kind === 'topics') {
    const setting = settingOf(text, values, where);
    return { place: typeof setting === 'string' && !isAddress(setting) ? resolve(folder, setting) : setting };
  }
  const place = interpolate(text, values, where) as string;
  if (kind === 'server') return { place: isAddress(place) ? place : resolve(folder, place) };
  return { place: isAddress(place) ? place : resolve(folder, place) };
}

/** The tools of a plan that call others. */
export function chainsOf(plan: Plan, values: Values): readonly ChainedTool[] {
  return plan.entries.flatMap(({ kind, value, where }): ChainedTool[] => {
    if (kind !== 'tool') return [];
    const { tool, call, with: given, steps, ...rest } = interpolate(value, values, where) as Record<string, unknown> & { tool: string };
    const own =
      call === undefined
        ? (steps as ChainStep[])
        : [{ call: call as string, ...(given !== undefined && { with: given as Record<string, unknown> }) }];
    return [{ ...(rest as unknown as Omit<ChainedTool, 'name' | 'steps'>), name: tool, steps: own }];
  });
}

/** A prompt of a plan. */
export interface PlanPrompt {
  readonly name: string;
  readonly definition: Readonly<Record<string, unknown>>;
  readonly messages: readonly { readonly role: 'user' | 'assistant'; readonly content: string }[];
}

export function promptsOf(plan: Plan, values: Values): readonly PlanPrompt[] {
  return plan.entries.flatMap(({ kind, value, where }): PlanPrompt[] => {
    if (kind !== 'prompt') return [];
    const {
      prompt: name,
      title,
      description,
      arguments: given = {},
      text,
      messages,
    } = interpolate(value, values, where) as {
      prompt: string;
      title?: string;
      description?: string;
      arguments?: Record<string, { description?: string; required?: boolean; values?: string[] } | null>;
      text?: string;
      messages?: { user?: string; assistant?: string }[];
    };
    const properties = Object.fromEntries(
      Object.entries(given).map(([argument, said]) => [
        argument,
        {
          type: 'string',
          ...(said?.description !== undefined && { description: said.description }),
          ...(said?.values && { enum: said.values }),
        },
      ]),
    );
    const required = Object.entries(given).flatMap(([argument, said]) => (said?.required === false ? [] : [argument]));
    const input = Object.keys(properties).length > 0 && { input: { type: 'object', properties, required } };
    return [
      {
        name,
        definition: { ...(title !== undefined && { title }), ...(description !== undefined && { description }), ...input },
        messages:
          text !== undefined
            ? [{ role: 'user', content: text }]
            : messages!.map((each) =>
                each.user !== undefined
                  ? { role: 'user' as const, content: each.user }
                  : { role: 'assistant' as const, content: each.assistant! },
              ),
      },
    ];
  });
}

/** A resource of a plan. */
export interface PlanResource {
  readonly uri: string;
  readonly definition: Readonly<Record<string, unknown>>;
  readonly text?: string;
  readonly file?: string;
}

export function resourcesOf(plan: Plan, values: Values): readonly PlanResource[] {
  return plan.entries.flatMap(({ kind, value, where, folder }): PlanResource[] => {
    if (kind !== 'resource') return [];
    const {
      resource: uri,
      text,
      file,
      ...definition
    } = interpolate(value, values, where) as { resource: string; text?: string; file?: string };
    return [{ uri, definition, ...(text !== undefined && { text }), ...(file !== undefined && { file: join(folder, file) }) }];
  });
}

/** A view of a plan. */
export interface PlanView {
  readonly name: string;
  /** Names of the tools that it is for. */
  readonly of: readonly string[];
  readonly file?: string;
  readonly folder?: string;
  readonly definition: Readonly<Record<string, unknown>>;
}

export function viewsOf(plan: Plan, values: Values): readonly PlanView[] {
  return plan.entries.flatMap(({ kind, value, where, folder: home }): PlanView[] => {
    if (kind !== 'view') return [];
    const {
      view: name,
      of,
      file,
      folder,
      ...definition
    } = interpolate(value, values, where) as { view: string; of: string[]; file?: string; folder?: string };
    const place = file === undefined ? { folder: join(home, folder!) } : { file: join(home, file) };
    return [{ name, of, definition, ...place }];
  });
}

/** The text of a resource's file. */
export const readText = (file: string): string => readFileSync(file, 'utf8');

export const urlOf = (path: string): URL => pathToFileURL(path);
