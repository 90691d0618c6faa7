import MiniSearch from 'minisearch';
import { isAmong, matterOf, titleOfPath, type FolderIndex, type Found, type IndexedDocument } from './folder-index.js';
import type { Section } from './sections.js';
import { phrasesOf, stemOf } from './words.js';

interface Entry {
  readonly id: string;
  readonly title: string;
  readonly headings: string;
  readonly text: string;
}

/** An index that lives as long as the process, or the page: it needs nothing of Node.js. */
// eslint-disable-next-line max-lines-per-function -- the operations share the documents
export function memoryIndex(): FolderIndex {
  const search = new MiniSearch<Entry>({
    fields: ['title', 'headings', 'text'],
    processTerm: stemOf,
    searchOptions: {
      boost: { title: 3, headings: 2 },
      prefix: (term) => term.length > 3,
      fuzzy: (term) => (term.length > 4 ? 0.2 : false),
    },
  });
  const documents = new Map<string, IndexedDocument>();
  const vectors = new Map<string, Float32Array>();
  const remove = (path: string) => {
    const before = documents.get(path);
    if (before === undefined) return;
    search.discardAll(before.sections.map((_, index) => `${path}\n${index}`));
    documents.delete(path);
  };
  const at = (id: string) => {
    const [path = '', index] = id.split('\n');
    const document = documents.get(path)!;
    return { path, document, section: document.sections[Number(index)]! };
  };
  const put = (document: IndexedDocument) => {
    remove(document.path);
    documents.set(document.path, document);
    search.addAll(
      document.sections.map(({ headings, text }, index) => ({
        id: `${document.path}\n${index}`,
        title: headings[0] ?? titleOfPath(document.path),
        headings: headings.slice(1).join(' '),
        text,
      })),
    );
  };
  return {
    place: 'in memory',
    stamps: () => new Map([...documents].map(([path, { stamp }]) => [path, stamp])),
    put: (added) => added.forEach(put),
    remove: (paths) => paths.forEach(remove),
    byWords(words, how) {
      const phrases = phrasesOf(words).map((phrase) => phrase.toLowerCase().replaceAll(/\s+/g, ' '));
      const found = search.search(words, {
        filter({ id }) {
          const { document, section } = at(id as string);
          if (!isAmong(document, how)) return false;
          const plain = phrases.length === 0 ? '' : section.text.toLowerCase().replaceAll(/\s+/g, ' ');
          return phrases.every((phrase) => plain.includes(phrase));
        },
      });
      return found.slice(0, how.limit).map(({ id, score, terms }): Found => {
        const { path, section } = at(id as string);
        return { path, section, score: Number(score.toFixed(2)), stems: new Set(terms) };
      });
    },
    byVector(vector, how) {
      const all: Found[] = [];
      for (const document of documents.values())
        if (isAmong(document, how))
          for (const section of document.sections) {
            const own = vectors.get(textOf(section));
            if (own !== undefined) all.push({ path: document.path, section, score: cosine(own, vector), stems: new Set() });
          }
      return all.sort((a, b) => b.score - a.score).slice(0, how.limit);
    },
    sections: (path) => documents.get(path)?.sections,
    unembedded(most) {
      const found = new Map<string, string>();
      for (const { sections } of documents.values())
        for (const section of sections) {
          if (found.size >= most) return listed(found);
          if (!vectors.has(textOf(section))) found.set(textOf(section), textToEmbed(section));
        }
      return listed(found);
    },
    keepVectors(added) {
      for (const each of added) vectors.set(each.hash, each.vector);
    },
    matter: () => matterOf([...documents.values()].map(({ matter }) => matter)),
    counts() {
      // Sections that say the same share a vector.
      const embedded =
        vectors.size === 0
          ? 0
          : [...documents.values()].flatMap(({ sections }) => sections).filter((each) => vectors.has(textOf(each))).length;
      return { files: documents.size, sections: search.documentCount, embedded };
    },
    close: () => undefined,
  };
}

/** What a section says, whole: sections that say the same share a vector. */
export const textOf = ({ headings, text }: Section): string => `${headings.join('\n')}\n\n${text}`;

const listed = (found: ReadonlyMap<string, string>) => [...found].map(([hash, text]) => ({ hash, text }));

const mostEmbeddedChars = 2000;

/** What is embedded of a section: the headings it is under, and how it begins. */
export const textToEmbed = ({ headings, text }: Pick<Section, 'headings' | 'text'>): string =>
  `${headings.join(' › ')}\n${text.replace(/^#+ .*\n/, '')}`.trim().slice(0, mostEmbeddedChars);

function cosine(a: Float32Array, b: Float32Array): number {
  let [dot, aa, bb] = [0, 0, 0];
  for (let at = 0; at < a.length; at++) {
    dot += a[at]! * b[at]!;
    aa += a[at]! * a[at]!;
    bb += b[at]! * b[at]!;
  }
  return aa === 0 || bb === 0 ? 0 : dot / Math.sqrt(aa * bb);
}
