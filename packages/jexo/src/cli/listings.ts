import { createHash } from 'node:crypto';
import { mkdirSync, readFileSync, renameSync, writeFileSync } from 'node:fs';
import { dirname, join, resolve } from 'node:path';
import type { Client } from '../client/connect-link.js';
import { toolOf } from '../offers/catalogue.js';
import type { Server } from '../offers/define-server.js';
import { cacheFolder } from '../own-folder.js';
import type { Completion, Prompt, Resource, ResourceTemplate, Tool } from '../protocol/types.js';

/** What completion asks of a server, or of what is remembered of one. */
export interface Listed {
  readonly server: Pick<Client['server'], 'capabilities'>;
  tools(): Promise<readonly Tool[]>;
  prompts(): Promise<readonly Prompt[]>;
  resources(): Promise<readonly Resource[]>;
  templates(): Promise<readonly ResourceTemplate[]>;
  complete(...args: Parameters<Client['complete']>): Promise<Completion>;
  close(): Promise<void>;
}

interface Kept {
  readonly tools: readonly Tool[];
  readonly prompts: readonly Prompt[];
  readonly resources: readonly Resource[];
  readonly templates: readonly ResourceTemplate[];
  /** Values that do not change, by the name of a prompt or the text of a template. */
  readonly values: Readonly<Record<string, Readonly<Record<string, readonly string[]>>>>;
}

const placeOf = (target: string) =>
  join(cacheFolder(), 'listings', `${createHash('sha256').update(resolve(target)).digest('hex').slice(0, 24)}.json`);

/** Remembers what a module offers, for completion: it is not run for that. A cache that cannot be written costs completion, nothing else. */
export async function keepListing(target: string, server: Server): Promise<void> {
  try {
    const { tools, prompts, resources, templates } = await server.catalogue();
    const fixed = (complete: Readonly<Record<string, unknown>> = {}) =>
      Object.fromEntries(Object.entries(complete).filter((each): each is [string, readonly string[]] => Array.isArray(each[1])));
    const kept: Kept = {
      tools: [...tools.values()].map(({ offer }) => toolOf(offer)),
      prompts: [...prompts.values()].map(({ offer }) => ({ name: offer.name, arguments: offer.arguments })),
      resources: [...resources.values()].map(({ offer }) => ({ uri: offer.uri, name: offer.name })),
      templates: [...templates.values()].map(({ offer }) => ({ uriTemplate: offer.template.text, name: offer.name })),
      values: Object.fromEntries([
        ...[...prompts.values()].map(({ offer }) => [offer.name, fixed(offer.complete)] as const),
        ...[...templates.values()].map(({ offer }) => [offer.template.text, fixed(offer.complete)] as const),
      ]),
    };
    const place = placeOf(target);
    mkdirSync(dirname(place), { recursive: true, mode: 0o700 });
    const draft = `${place}.${process.pid}`;
    writeFileSync(draft, JSON.stringify(kept), { mode: 0o600 });
    renameSync(draft, place);
  } catch {
    // It is listed again by the next command.
  }
}

/** What a module offered when a command last ran it; undefined when none has. */
export async function listedBefore(target: string): Promise<Listed | undefined> {
  let kept: Kept;
  try {
    kept = JSON.parse(readFileSync(placeOf(target), 'utf8')) as Kept;
  } catch {
    return undefined;
  }
  return {
    server: { capabilities: { tools: {}, prompts: {}, resources: {}, completions: {} } },
    tools: async () => kept.tools,
    prompts: async () => kept.prompts,
    resources: async () => kept.resources,
    templates: async () => kept.templates,
    async complete(ref, { name, value }) {
      const known = kept.values[ref.type === 'ref/prompt' ? ref.name : ref.uri]?.[name] ?? [];
      return { values: known.filter((each) => each.startsWith(value)) };
    },
    close: async () => undefined,
  };
}
