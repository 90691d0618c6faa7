import type { Section } from './sections.js';

/** A document that was taken apart. */
export interface IndexedDocument {
  readonly path: string;
  /** Tells this version of the file from others. */
  readonly stamp: string;
  readonly sections: readonly Section[];
  /** The values of its front matter. */
  readonly matter: Readonly<Record<string, unknown>>;
  /** `2026-05-03`: from its front matter, or when the file was changed. */
  readonly date: string;
}

/** What a search is narrowed to. */
export interface Narrowing {
  /** Sections at most. */
  readonly limit: number;
  /** Only documents in this folder, or this document. */
  readonly under?: string;
  /** Values of the front matter; of a list, one is enough. */
  readonly where?: Readonly<Record<string, string | number | boolean>>;
  /** Only documents of this day and later, as `2026-05-03`. */
  readonly since?: string;
  /** Only documents of this day and earlier. */
  readonly until?: string;
}

/** A section that was found. */
export interface Found {
  readonly path: string;
  readonly section: Section;
  readonly score: number;
  /** The stems that were found in it. */
  readonly stems: ReadonlySet<string>;
}

/** A section that has no vector yet. */
export interface Unembedded {
  /** Tells its text from others: a digest, or the text itself. */
  readonly hash: string;
  readonly text: string;
}

/** Where the sections of a folder's documents are kept and found. */
export interface FolderIndex {
  /** The stamp of every document it holds, by path. */
  stamps(): ReadonlyMap<string, string>;
  /** Takes documents in, in place of their earlier versions. */
  put(documents: readonly IndexedDocument[]): void;
  remove(paths: readonly string[]): void;
  /** By words: BM25 over title, headings and text, with stems, prefixes and tolerance of typos; words in quotes stand together. */
  byWords(words: string, how: Narrowing): Found[];
  /** By the angle between vectors. */
  byVector(vector: Float32Array, how: Narrowing): Found[];
  /** The sections of a document. */
  sections(path: string): readonly Section[] | undefined;
  /** Some of the sections without a vector. */
  unembedded(most: number): readonly Unembedded[];
  keepVectors(vectors: readonly { readonly hash: string; readonly vector: Float32Array }[]): void;
  /** Names in the front matter of its documents, with some of their values. */
  matter(): Readonly<Record<string, readonly string[]>>;
  counts(): { readonly files: number; readonly sections: number; readonly embedded: number };
  /** Where it is kept, for people: `in memory`, a path. */
  readonly place: string;
  close(): void;
}

const digits = /^\d{4}-\d{2}-\d{2}/;

/** The day of a date in front matter; undefined when it is none. */
export function dayOf(value: unknown): string | undefined {
  if (value instanceof Date && !Number.isNaN(value.getTime())) return value.toISOString().slice(0, 10);
  return typeof value === 'string' ? digits.exec(value)?.[0] : undefined;
}

/** The names of front matter with up to five values each, of many documents. */
export function matterOf(all: Iterable<Readonly<Record<string, unknown>>>): Record<string, readonly string[]> {
  const found = new Map<string, Set<string>>();
  for (const matter of all)
    for (const [name, value] of Object.entries(matter)) {
      const values = found.get(name) ?? new Set();
      found.set(name, values);
      for (const each of [value].flat()) if (values.size < 5 && isScalar(each)) values.add(String(each));
    }
  return Object.fromEntries([...found].sort(([a], [b]) => (a < b ? -1 : 1)).map(([name, values]) => [name, [...values].sort()]));
}

export const isScalar = (value: unknown): value is string | number | boolean => ['string', 'number', 'boolean'].includes(typeof value);

/** True when a document is one of those a search is narrowed to. */
export function isAmong({ path, matter, date }: Pick<IndexedDocument, 'path' | 'matter' | 'date'>, how: Narrowing): boolean {
  const { under, where = {}, since, until } = how;
  if (under !== undefined && path !== folderOf(under) && !path.startsWith(`${folderOf(under)}/`)) return false;
  if ((since !== undefined && date < since) || (until !== undefined && date > until)) return false;
  return Object.entries(where).every(([name, wanted]) =>
    [matter[name]].flat().some((value) => isScalar(value) && String(value) === String(wanted)),
  );
}

/** `winter/` and `/winter` as `winter`. */
export const folderOf = (under: string): string => under.replaceAll(/^\/+|\/+$/g, '');

/** The title of a document without headings: its path as words. */
export const titleOfPath = (path: string): string => path.replace(/\.\w+$/, '').replaceAll(/[/_-]/g, ' ');
