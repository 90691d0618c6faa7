import { parse } from 'yaml';
import { messageOf } from '../../errors.js';
import { isRecord } from '../../protocol/is-record.js';
import { loadPackage } from '../../optional-package.js';
import { dayOf, type IndexedDocument } from './folder-index.js';
import { isText } from './mime-types.js';
import type { FolderFile } from './scan-folder.js';
import { frontMatterOf, sectionsOf, type Section } from './sections.js';

/** Files that are documents: they are taken apart and searched. */
const texts = /\.(?:md|markdown|mdx|txt|html?|rst|adoc|[cm]?[jt]sx?|py|rb|go|rs|java|c|h|cpp|cs|php|sh|sql|json|ya?ml|toml|csv|css|xml)$/i;
const isPdf = (path: string) => /\.pdf$/i.test(path);

const mostTextBytes = 2 * 1024 * 1024;
const mostPdfBytes = 32 * 1024 * 1024;

/** True for a file whose text is searched. */
export const isDocument = ({ path, size }: FolderFile): boolean =>
  (texts.test(path) && size <= mostTextBytes) || (isPdf(path) && size <= mostPdfBytes);

/** Tells a version of a file from others. */
export const stampOf = ({ size, modified }: FolderFile): string => `${size} ${modified.getTime()}`;

/** A document that was read; `fault` says why nothing of it can be found. */
export interface ReadDocument {
  readonly document: IndexedDocument;
  readonly fault?: string;
}

/** Takes a file apart. One that is no text after all has no sections. */
export async function readDocument(file: FolderFile, bytes: Buffer): Promise<ReadDocument> {
  const { path, modified } = file;
  const base = { path, stamp: stampOf(file), date: modified.toISOString().slice(0, 10), matter: {}, sections: [] as readonly Section[] };
  if (isPdf(path)) {
    try {
      const sections = await pagesOfPdf(path, bytes);
      return { document: { ...base, sections }, ...(sections.length === 0 && { fault: 'it has no text' }) };
    } catch (error) {
      return { document: base, fault: messageOf(error) };
    }
  }
  if (!isText(bytes)) return { document: base };
  const text = bytes.toString('utf8');
  const matter = matterOf(text, path);
  return { document: { ...base, sections: sectionsOf(path, text), matter, date: dayOf(matter.date) ?? base.date } };
}

/** The values before a Markdown document, between lines of three dashes; none when they are no YAML. */
function matterOf(text: string, path: string): Readonly<Record<string, unknown>> {
  const matter = /\.(?:md|markdown|mdx)$/i.test(path) ? frontMatterOf(text) : undefined;
  if (matter === undefined) return {};
  try {
    const value: unknown = parse(matter, { maxAliasCount: 10 });
    return isRecord(value) ? (JSON.parse(JSON.stringify(value)) as Record<string, unknown>) : {};
  } catch {
    return {}; // the text of the document is searched all the same
  }
}

interface PdfReader {
  getDocumentProxy(data: Uint8Array, options: { verbosity: 0 }): Promise<{ destroy?(): Promise<void> }>;
  extractText(document: unknown, options: { mergePages: false }): Promise<{ text: string[] }>;
}

/** A section for every page that has text. @throws JexoError JEXO_PACKAGE_MISSING */
async function pagesOfPdf(path: string, bytes: Buffer): Promise<Section[]> {
  const { getDocumentProxy, extractText } = await loadPackage<PdfReader>('unpdf');
  const document = await getDocumentProxy(new Uint8Array(bytes), { verbosity: 0 });
  try {
    const { text } = await extractText(document, { mergePages: false });
    const title = path
      .replace(/^.*\//, '')
      .replace(/\.pdf$/i, '')
      .replaceAll(/[_-]/g, ' ');
    return text.flatMap((page, index) =>
      page.trim() === ''
        ? []
        : [
            {
              anchor: `page-${index + 1}`,
              headings: [title, `page ${index + 1}`],
              text: page.replaceAll(/[^\S\n]+/g, ' ').trim(),
              line: index + 1,
            },
          ],
    );
  } finally {
    await document.destroy?.();
  }
}
