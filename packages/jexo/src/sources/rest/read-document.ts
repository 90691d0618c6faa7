import { readFile } from 'node:fs/promises';
import { resolve as resolvePath } from 'node:path';
import { fileURLToPath, pathToFileURL } from 'node:url';
import { LineCounter, parseDocument } from 'yaml';
import { deadline } from '../../engine/deadline.js';
import { JexoError, messageOf } from '../../errors.js';
import { isRecord } from '../../protocol/is-record.js';
import { jsonLines } from './json-lines.js';
import { readAll } from '../http/read-all.js';

/** A document and all it refers to, every `$ref` absolute. */
export interface RestDocument {
  readonly root: Readonly<Record<string, unknown>>;
  /** As a person names it: a path or URL; `the document` for one given as a value. */
  readonly shown: string;
  /** Where servers that are given relatively start from; undefined for files. */
  readonly url?: string;
  /** `api.yaml:12` for a place in the main document. */
  whereOf(path: readonly (string | number)[]): string;
  /** What a reference leads to. @throws JexoError JEXO_DOCUMENT */
  resolve(ref: string): unknown;
  /** References that lead nowhere. */
  readonly brokenRefs: readonly string[];
  /** Paths of the files it was read from. */
  readonly files: readonly string[];
}

/** Texts by their path from the document: '' is the document itself, the others are what it refers to. */
export type DocumentTexts = Readonly<Record<string, string>>;

export interface ReadDocumentOptions {
  readonly signal?: AbortSignal;
  /** Texts that take the place of files, as a pack carries them. */
  readonly frozen?: DocumentTexts;
  /** Called with every text that is read from a file, by its path from the document. */
  readonly onText?: (path: string, text: string) => void;
}

const mostDocuments = 500;
const mostBytes = 50 * 1024 * 1024;

interface Parsed {
  readonly value: unknown;
  readonly lineOf: (path: readonly (string | number)[]) => number | undefined;
}

/**
 * Reads an OpenAPI document, with the other documents it refers to.
 *
 * @param source a path, a `file:` or web URL, or the document as a value
 * @throws JexoError JEXO_DOCUMENT when it cannot be found or read
 */
export async function readDocument(source: string | URL | object, options: ReadDocumentOptions = {}): Promise<RestDocument> {
  if (typeof source === 'object' && !(source instanceof URL)) {
    const base = pathToFileURL(`${process.cwd()}/`).href;
    return assemble(base, 'the document', source as Record<string, unknown>, loader(base, options));
  }
  const text = String(source);
  const isUrl = /^(?:https?|file):/i.test(text);
  const href = isUrl ? new URL(text).href : pathToFileURL(resolvePath(text)).href;
  const shown = href.startsWith('file:') ? (isUrl ? fileURLToPath(href) : text) : href;
  const load = loader(href, options);
  const parsed = await load(href, shown);
  if (!isRecord(parsed.value)) throw new JexoError('JEXO_DOCUMENT', `${shown} holds no document.`, { where: shown });
  return assemble(href, shown, parsed.value, load, parsed.lineOf);
}

async function assemble(
  href: string,
  shown: string,
  value: Record<string, unknown>,
  load: Load,
  lineOf: Parsed['lineOf'] = () => undefined,
): Promise<RestDocument> {
  const documents = new Map<string, unknown>();
  const unread = new Map<string, unknown>();
  const references = new Set<string>();
  const alone = standsAlone(value, references);
  const queue: [string, unknown][] = [[href, value]];
  const wanted = new Set([href]);
  while (queue.length > 0) {
    const [base, document] = queue.shift()!;
    // The main document's own references stay short; those of the others name their document.
    documents.set(
      base,
      alone
        ? document
        : absolute(document, base, base === href, references, (other) => {
            if (wanted.has(other)) return;
            wanted.add(other);
            requireReachable(shown, href, other, wanted.size);
            queue.push([other, undefined]);
          }),
    );
    for (const next of queue) {
      if (next[1] !== undefined) continue;
      const [other] = next;
      try {
        next[1] = (await load(other, other.startsWith('file:') ? fileURLToPath(other) : other)).value;
      } catch (error) {
        // Only what needs it is lost; an example may name files that were never there.
        unread.set(other, error);
        next[1] = {};
      }
    }
  }
  const resolve = (ref: string): unknown => {
    const at = ref.indexOf('#');
    const document = at <= 0 ? href : ref.slice(0, at);
    if (unread.has(document)) throw unread.get(document);
    const found = pointTo(documents.get(document), at < 0 ? '' : ref.slice(at + 1));
    if (found === undefined) throw new JexoError('JEXO_DOCUMENT', `${shown} refers to ${ref}, which is not there.`, { where: shown });
    return found;
  };
  return {
    root: documents.get(href) as Record<string, unknown>,
    shown,
    ...(/^https?:/i.test(href) && { url: href }),
    whereOf(path) {
      const line = lineOf(path);
      return line === undefined ? `${shown}#/${path.join('/')}` : `${shown}:${line}`;
    },
    resolve,
    files: [...wanted].filter((each) => each.startsWith('file:') && !each.endsWith('/')).map((each) => fileURLToPath(each)),
    brokenRefs: [...references].filter((ref) => {
      try {
        resolve(ref);
        return false;
      } catch {
        return true;
      }
    }),
  };
}

/** @throws JexoError JEXO_DOCUMENT when a document may not have this machine read another one on its behalf */
function requireReachable(shown: string, href: string, other: string, count: number): void {
  const next = 'Download the document, look at it, and serve the copy.';
  if (count > mostDocuments)
    throw new JexoError('JEXO_DOCUMENT', `${shown} refers to more than ${mostDocuments} documents.`, { where: shown });
  if (href.startsWith('file:')) return;
  if (other.startsWith('file:'))
    throw new JexoError('JEXO_DOCUMENT', `${shown} refers to ${other}, a file of this machine.`, { where: shown, next });
  if (new URL(other).origin !== new URL(href).origin)
    throw new JexoError('JEXO_DOCUMENT', `${shown} refers to ${other}, on another host.`, { where: shown, next });
}

/** True when every reference stays within the document; they are gathered on the way. */
function standsAlone(value: unknown, references: Set<string>): boolean {
  let alone = true;
  if (Array.isArray(value)) {
    for (const item of value) if (typeof item === 'object' && !standsAlone(item, references)) alone = false;
    return alone;
  }
  if (!isRecord(value)) return true;
  for (const key in value) {
    const item = value[key];
    if (typeof item === 'object') {
      if (!standsAlone(item, references)) alone = false;
    } else if (key === '$ref' && typeof item === 'string') {
      if (item.startsWith('#')) references.add(item);
      else alone = false;
    }
  }
  return alone;
}

function absolute(value: unknown, base: string, isMain: boolean, references: Set<string>, found: (document: string) => void): unknown {
  if (Array.isArray(value)) return value.map((item) => absolute(item, base, isMain, references, found));
  if (!isRecord(value)) return value;
  return Object.fromEntries(
    Object.entries(value).map(([key, item]) => {
      if (key !== '$ref' || typeof item !== 'string') return [key, absolute(item, base, isMain, references, found)];
      const noted = (ref: string) => {
        references.add(ref);
        return [key, ref];
      };
      if (item.startsWith('#')) return noted(isMain ? item : base + item);
      const url = URL.canParse(item, base) ? new URL(item, base) : undefined;
      if (url === undefined || !/^(?:file|https?):$/.test(url.protocol)) return [key, item];
      const pointer = url.hash;
      url.hash = '';
      found(url.href);
      return noted(url.href + (pointer === '' ? '#' : pointer));
    }),
  );
}

function pointTo(document: unknown, pointer: string): unknown {
  return decodeURIComponent(pointer)
    .split('/')
    .slice(1)
    .map((step) => step.replaceAll('~1', '/').replaceAll('~0', '~'))
    .reduce<unknown>(
      (value, step) => (typeof value === 'object' && value !== null ? (value as Record<string, unknown>)[step] : undefined),
      document,
    );
}

type Load = (href: string, shown: string) => Promise<Parsed>;

/** Reads what belongs to the document at `main`: from what a pack carries, from files, or over the network. */
function loader(main: string, { frozen, onText, signal }: ReadDocumentOptions): Load {
  return async (href, shown) => {
    const isFile = href.startsWith('file:');
    const path = isFile ? pathFrom(main, href) : href;
    let text: string;
    try {
      text = (isFile ? frozen?.[path] : undefined) ?? (isFile ? await readFile(fileURLToPath(href), 'utf8') : await download(href, signal));
    } catch (error) {
      const missing = (error as NodeJS.ErrnoException).code === 'ENOENT';
      throw new JexoError(
        missing ? 'JEXO_TARGET_MISSING' : 'JEXO_DOCUMENT',
        missing ? `There is no file ${shown}.` : `${shown} cannot be read: ${messageOf((error as { cause?: unknown }).cause ?? error)}`,
        { where: shown, cause: error },
      );
    }
    if (isFile) onText?.(path, text);
    return parse(text.replace(/^\uFEFF/, ''), shown);
  };
}

/** `../shared/hive.yaml`, seen from the folder of the document; '' for the document itself. */
function pathFrom(document: string, href: string): string {
  if (href === document) return '';
  const [here, there] = [document, href].map((each) => each.split('/'));
  let same = 0;
  while (same < here!.length - 1 && here![same] === there![same]) same++;
  return [...here!.slice(same, -1).map(() => '..'), ...there!.slice(same)].join('/');
}

async function download(href: string, signal: AbortSignal | undefined): Promise<string> {
  const limit = deadline(30_000, signal);
  try {
    const response = await fetch(href, { signal: limit.signal, headers: { accept: 'application/json, application/yaml, */*' } });
    if (!response.ok) throw new Error(`HTTP ${response.status}`);
    const bytes = await readAll(
      response,
      mostBytes,
      () => new JexoError('JEXO_DOCUMENT', `it is larger than ${mostBytes / 1024 / 1024} MB`),
    );
    return new TextDecoder().decode(bytes);
  } finally {
    limit.clear();
  }
}

/** Keys from the root to an operation: deeper places are told by the operation they are in. */
const operationDepth = 3;

/** JSON is read as JSON, which is much faster; its lines are looked for only when they are needed. */
function parse(text: string, shown: string): Parsed {
  if (/^\s*[{[]/.test(text)) {
    try {
      const value = JSON.parse(text) as unknown;
      let find: ReturnType<typeof jsonLines> | undefined;
      return { value, lineOf: (path) => (find ??= jsonLines(text, operationDepth))(path) };
    } catch {
      // YAML allows more, and says where it is wrong
    }
  }
  return parseYaml(text, shown);
}

function parseYaml(text: string, shown: string): Parsed {
  const lines = new LineCounter();
  const document = parseDocument(text, { lineCounter: lines, prettyErrors: false, uniqueKeys: false });
  const [broken] = document.errors;
  if (broken !== undefined) {
    const { line, col } = lines.linePos(broken.pos[0]);
    throw new JexoError('JEXO_SYNTAX', `${shown}:${line}:${col}: ${broken.message}`, { where: `${shown}:${line}:${col}` });
  }
  const lineOf = (path: readonly (string | number)[]) => {
    for (let length = path.length; length > 0; length--) {
      const parent = document.getIn(path.slice(0, length - 1), true) as
        { items?: { key?: { value?: unknown; range?: [number] } }[] } | undefined;
      const key = parent?.items?.find((item) => String(item.key?.value) === String(path[length - 1]))?.key;
      const node = key ?? (document.getIn(path.slice(0, length), true) as { range?: [number] } | undefined);
      if (node?.range) return lines.linePos(node.range[0]).line;
    }
    return 1;
  };
  return { value: document.toJS({ maxAliasCount: 1000 }) as unknown, lineOf };
}
