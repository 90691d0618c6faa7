import { memoryIndex } from '../../../packages/jexo/src/sources/folder/memory-index.js';
import { sectionsOf } from '../../../packages/jexo/src/sources/folder/sections.js';
import { snippetOf } from '../../../packages/jexo/src/sources/folder/words.js';

/** A page of the site: its path, and the Markdown that it is made of. */
export interface SiteDocument {
  readonly path: string;
  readonly text: string;
}

/** A section that was found. */
export interface Hit {
  /** `production.html#settings` */
  readonly href: string;
  readonly heading: string;
  /** What was found stands between `**`. */
  readonly snippet: string;
}

/** What a search finds: in the guides, and among what the package exports. */
export interface Hits {
  readonly guides: readonly Hit[];
  readonly api: readonly Hit[];
}

/** Text without the marks of Markdown: fences, tables, emphasis, comments, the addresses of links. */
const plainOf = (text: string): string =>
  text.replaceAll(/^ *```.*$|<!--[\s\S]*?-->|<a id="[^"]*"><\/a>|\]\([^)\s]*\)|^[ |:-]+$|[`|*[\\]/gm, ' ');

/** The search of `wrapFolder`, over the pages of the site: the same sections, the same order. */
export function finder(documents: readonly SiteDocument[]): (words: string) => Hits {
  const index = memoryIndex();
  index.put(
    documents.map(({ path, text }) => ({ path, stamp: '', sections: sectionsOf(path.replace(/html$/, 'md'), text), matter: {}, date: '' })),
  );
  const hitsOf = (words: string, isApi: boolean): Hit[] =>
    index
      .byWords(words, { limit: 200 })
      .filter(({ path }) => path.startsWith('api/') === isApi)
      .slice(0, isApi ? 8 : 12)
      .map(({ path, section, stems }) => ({
        href: section.anchor === '' ? path : `${path}#${section.anchor}`,
        heading: section.headings.join(' › ').replaceAll(/[`\\]/g, ''),
        snippet: snippetOf(plainOf(section.text), stems),
      }));
  return (words) => ({ guides: hitsOf(words, false), api: hitsOf(words, true) });
}
