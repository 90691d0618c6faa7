import MiniSearch from 'minisearch';
import { stemmer } from 'stemmer';
import type { Section } from './sections.js';

/** A section that was found. */
export interface Hit {
  readonly path: string;
  readonly section: Section;
  readonly score: number;
  /** A part of it, with the words that were found between `**`. */
  readonly snippet: string;
}

/** Finds sections by words: BM25 over title, headings and text, with stems, prefixes and tolerance of typos. */
export interface FolderIndex {
  put(path: string, sections: readonly Section[]): void;
  remove(path: string): void;
  find(words: string, how: { readonly limit: number; readonly under?: string }): Hit[];
  section(path: string, anchor: string): { readonly all: readonly Section[]; readonly at: number } | undefined;
  readonly files: number;
  readonly sections: number;
}

interface Entry {
  readonly id: string;
  readonly title: string;
  readonly headings: string;
  readonly text: string;
}

const common = new Set(
  'a an and are as at be but by do does for from how i if in is it my of on or our should that the their them then they this to was we what when where which who will with you your'.split(
    ' ',
  ),
);
const stem = (term: string) => {
  const plain = term.toLowerCase().replaceAll(/['’]s?$/g, '');
  return plain === '' || common.has(plain) ? null : stemmer(plain);
};

export function folderIndex(): FolderIndex {
  const search = new MiniSearch<Entry>({
    fields: ['title', 'headings', 'text'],
    processTerm: stem,
    searchOptions: {
      boost: { title: 3, headings: 2 },
      prefix: (term) => term.length > 3,
      fuzzy: (term) => (term.length > 4 ? 0.2 : false),
    },
  });
  const files = new Map<string, readonly Section[]>();
  const ids = (path: string, sections: readonly Section[]) => sections.map((_, index) => `${path}\n${index}`);
  const remove = (path: string) => {
    const before = files.get(path);
    if (before === undefined) return;
    search.discardAll(ids(path, before));
    files.delete(path);
  };
  return {
    put(path, sections) {
      remove(path);
      files.set(path, sections);
      search.addAll(
        sections.map(({ headings, text }, index) => ({
          id: `${path}\n${index}`,
          title: headings[0] ?? path.replace(/\.\w+$/, '').replaceAll(/[/_-]/g, ' '),
          headings: headings.slice(1).join(' '),
          text,
        })),
      );
    },
    remove,
    find(words, { limit, under }) {
      const phrases = [...words.matchAll(/"([^"]+)"/g)].map(([, phrase]) => phrase!.toLowerCase());
      const of = (id: string) => {
        const [path = '', index] = id.split('\n');
        return { path, section: files.get(path)![Number(index)]! };
      };
      const found = search.search(words, {
        filter: ({ id }) => {
          const { path, section } = of(id as string);
          if (under !== undefined && path !== under && !path.startsWith(`${under.replace(/\/$/, '')}/`)) return false;
          return phrases.every((phrase) => section.text.toLowerCase().replaceAll(/\s+/g, ' ').includes(phrase));
        },
      });
      return found.slice(0, limit).map(({ id, score, terms }) => {
        const { path, section } = of(id as string);
        return { path, section, score: Number(score.toFixed(2)), snippet: snippetOf(section.text, new Set(terms)) };
      });
    },
    section(path, anchor) {
      const all = files.get(path);
      const at = all?.findIndex((each) => each.anchor === anchor) ?? -1;
      return all === undefined || at < 0 ? undefined : { all, at };
    },
    get files() {
      return files.size;
    },
    get sections() {
      return search.documentCount;
    },
  };
}

const snippetChars = 240;

/** The part of a text around the first words that were found, with those marked. */
function snippetOf(text: string, terms: ReadonlySet<string>): string {
  const plain = text
    .replace(/^#.*\n/, '')
    .replaceAll(/\s+/g, ' ')
    .trim();
  const words = [...plain.matchAll(/\p{L}[\p{L}\p{N}'’-]*/gu)];
  const hits = words.filter(([word]) => terms.has(stem(word) ?? ''));
  const from = Math.max(0, (hits[0]?.index ?? 0) - 60);
  const start = from === 0 ? 0 : plain.indexOf(' ', from) + 1;
  const part = plain.slice(start, start + snippetChars);
  const marked = part.replaceAll(/\p{L}[\p{L}\p{N}'’-]*/gu, (word) => (terms.has(stem(word) ?? '') ? `**${word}**` : word));
  return `${start > 0 ? '… ' : ''}${marked}${start + snippetChars < plain.length ? ' …' : ''}`;
}
