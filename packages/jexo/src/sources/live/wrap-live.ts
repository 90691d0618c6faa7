import { rank, type CompletionContext } from '../../offers/completion.js';
import type { Offer } from '../../offers/offer.js';
import { resource, template } from '../../offers/resource.js';
import type { Source, SourceContents } from '../../offers/source.js';
import { liveBoard, type LiveBoard } from './live-board.js';
import { liveTools, readShown, type LiveContext } from './live-tools.js';
import type { LiveAccess } from './live-value.js';
import { counted } from '../../protocol/counted.js';

/** How live values are offered. */
export interface LiveOptions {
  /** Stands in the URIs and descriptions. Default: `live`. */
  readonly name?: string;
  /** What the values are about, in a sentence: it stands in the description of `read_values`. */
  readonly about?: string;
  /** Stands before the names of the tools, for a server with several: `scales_`. Default: nothing. */
  readonly prefix?: string;
  /** Points of history kept of each value. Default 600. */
  readonly points?: number;
  /** Values at most; the rest is not offered. Default 2000. */
  readonly maxValues?: number;
  /** Milliseconds between two notifications of one value. Default 1000. */
  readonly everyMs?: number;
  /** Milliseconds between two looks at the values, where `watch` is missing. Default 5000. */
  readonly pollMs?: number;
  /** Asks a person before a value is written. Default true. */
  readonly confirm?: boolean;
}

/**
 * Offers values that change by themselves, from up to four functions: as resources with unit, meaning and age, which can be subscribed
 * to, and through the tools `read_values`, `history` and, where something can be written, `write_value`.
 *
 * @throws when it is read: whatever `list` and `watch` throw
 * @example
 * wrapLive({
 *   list: () => [{ path: 'pump1/state', words: { 0: 'idle', 1: 'running' } }],
 *   read: async (path) => ({ value: await controller.get(path) }),
 *   watch: (push) => controller.on('change', (path, value) => push(path, { value })),
 * }, { name: 'plant' })
 */
export function wrapLive(access: LiveAccess, options: LiveOptions = {}): Source {
  return liveSource({ name: options.name ?? 'live', options, access, isConnected: () => true, read: async () => ({}) });
}

/** What a source of live values is made of. */
export interface LiveParts {
  readonly name: string;
  readonly options: LiveOptions;
  readonly access: LiveAccess;
  isConnected(): boolean;
  /** Prepares the access, and says what else the source holds. */
  read(context: Parameters<Source['read']>[0]): Promise<Omit<SourceContents, 'offers'>>;
  /** The depth of paths that may come, beside those that are there. */
  readonly depth?: number;
  close?(): void | Promise<void>;
}

/** A source of live values, whatever they come from. */
export function liveSource({ name, options, access, isConnected, read, depth = 1, close }: LiveParts): Source {
  const board = liveBoard(access, {
    points: options.points ?? 600,
    values: options.maxValues ?? 2000,
    everyMs: options.everyMs ?? 1000,
    pollMs: options.pollMs ?? 5000,
  });
  const context: LiveContext = {
    name,
    about: options.about,
    prefix: options.prefix ?? '',
    board,
    access,
    confirms: options.confirm ?? true,
    isConnected,
  };
  return {
    name,
    async read(given) {
      const more = await read(given);
      given.signal.throwIfAborted();
      await board.refresh();
      const notes =
        board.omitted === 0 ? [] : [`${name}: ${counted(board.omitted, 'value')} beyond the first ${board.values.size} not offered.`];
      return { ...more, offers: [...liveTools(context), ...liveResources(context, depth)], notes: [...(more.notes ?? []), ...notes] };
    },
    watch: (changed) => board.onList(changed),
    async close() {
      board.close();
      await close?.();
    },
  };
}

const schemeOf = (name: string) =>
  name
    .toLowerCase()
    .replaceAll(/[^a-z0-9]+/g, '-')
    .replaceAll(/^-+|-+$/g, '')
    .replace(/^(?![a-z])/, 'l-');

const mostBelow = 200;
const mostDepth = 8;

/** A resource for every value, and a template for every level of their paths. */
function liveResources(context: LiveContext, least: number): Offer[] {
  const { board, name } = context;
  const scheme = schemeOf(name);
  const pathOf = (uri: string) => {
    try {
      return decodeURIComponent(uri.slice(scheme.length + 3));
    } catch {
      return ''; // names no value
    }
  };
  const read = async (uri: string, signal: AbortSignal) => {
    const path = pathOf(uri);
    const own = board.values.get(path);
    if (own !== undefined) return readShown(context, own, signal);
    const below = [...board.values.values()].filter((each) => each.path.startsWith(`${path}/`));
    if (below.length === 0) return undefined;
    const values = await Promise.all(below.slice(0, mostBelow).map((each) => readShown(context, each, signal)));
    return { values, ...(below.length > mostBelow && { note: `${below.length - mostBelow} more values are below ${path}.` }) };
  };
  const watch = (uri: string) => (changed: () => void) => board.watch(pathOf(uri), changed);
  const depth = Math.min(mostDepth, Math.max(least, ...[...board.values.keys()].map((path) => path.split('/').length)));
  return [
    ...[...board.values.values()].map(({ path, title, description }) => {
      const uri = `${scheme}://${path.split('/').map(encodeURIComponent).join('/')}`;
      const meta = { name: path, ...(title !== undefined && { title }), ...(description !== undefined && { description }) };
      return resource(uri, { ...meta, mimeType: 'application/json', watch: watch(uri) }, (_request, call) => read(uri, call.signal));
    }),
    ...Array.from({ length: depth }, (_, at) => levelTemplate(context, scheme, at + 1, { read, watch })),
  ];
}

interface Access {
  read(uri: string, signal: AbortSignal): Promise<object | undefined>;
  watch(uri: string): (changed: () => void) => () => void;
}

/** `plant://{level1}/{level2}`: a value, or all values below. */
function levelTemplate({ board, name }: LiveContext, scheme: string, depth: number, { read, watch }: Access): Offer {
  const names = Array.from({ length: depth }, (_, at) => `level${at + 1}`);
  const complete = Object.fromEntries(
    names.map((each, at) => [
      each,
      (typed: string, { arguments: known }: CompletionContext) =>
        rank(
          nextParts(
            board,
            at,
            names.slice(0, at).map((name) => known[name]),
          ),
          typed,
        ),
    ]),
  );
  return template<string>(
    `${scheme}://${names.map((each) => `{${each}}`).join('/')}`,
    {
      name: `values of ${name}, level ${depth}`,
      description: `A value by its path, or all values below it.`,
      mimeType: 'application/json',
      complete,
      watch: (changed, uri) => watch(uri)(changed),
    },
    (_variables, call, { uri }) => read(uri, call.signal),
  );
}

/** The parts of paths at a level, below what is known of the levels before. */
function nextParts({ values }: LiveBoard, at: number, before: readonly (string | undefined)[]): string[] {
  const found = new Set<string>();
  for (const path of values.keys()) {
    const parts = path.split('/');
    if (parts[at] !== undefined && before.every((part, level) => part === undefined || part === parts[level])) found.add(parts[at]);
  }
  return [...found].sort();
}
