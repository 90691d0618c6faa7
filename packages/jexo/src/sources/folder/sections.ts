/** A part of a document that stands by itself: what comes under one heading. */
export interface Section {
  /** Stands behind the `#` of its URI; empty for what comes before the first heading. */
  readonly anchor: string;
  /** The headings it is under, from the document's title on. */
  readonly headings: readonly string[];
  readonly text: string;
  /** The line it begins at, from 1. */
  readonly line: number;
}

/** `Before winter: feeding` as `before-winter-feeding`. */
const slug = (heading: string) =>
  heading
    .toLowerCase()
    .normalize('NFKD')
    .replaceAll(/\p{M}/gu, '')
    .replaceAll(/[^\p{L}\p{N}]+/gu, '-')
    .replaceAll(/^-+|-+$/g, '') || 'section';

/** Takes a document apart by its headings, or a plain text by its blocks. */
export function sectionsOf(path: string, text: string): Section[] {
  const plain = plainOf(text);
  if (/\.html?$/i.test(path)) return split(fromHtml(plain), markdownHeading);
  if (/\.(?:md|markdown|mdx)$/i.test(path)) return split(withoutFrontMatter(plain), markdownHeading);
  return blocks(plain);
}

type Heading = (
  line: string,
  next: string | undefined,
) => { readonly level: number; readonly words: string; readonly lines: number } | undefined;

const markdownHeading: Heading = (line, next) => {
  const [, marks, words] = /^ {0,3}(#{1,6})\s+(.*?)\s*#*$/.exec(line) ?? [];
  if (marks !== undefined) return { level: marks.length, words: words!, lines: 1 };
  const under = /^ {0,3}(=+|-+)\s*$/.exec(next ?? '')?.[1];
  return under !== undefined && /\S/.test(line) && !/^[-*>|]/.test(line)
    ? { level: under.startsWith('=') ? 1 : 2, words: line.trim(), lines: 2 }
    : undefined;
};

const frontMatter = /^---\n([\s\S]*?)\n---(?:\n|$)/;

/** The YAML before a Markdown document. */
export const frontMatterOf = (text: string): string | undefined => frontMatter.exec(plainOf(text))?.[1];

/** Front matter keeps its lines, so that places stay true. */
const withoutFrontMatter = (text: string) => text.replace(frontMatter, (matter) => '\n'.repeat(matter.split('\n').length - 1));

const plainOf = (text: string) => text.replace(/^\uFEFF/, '').replaceAll('\r\n', '\n');

function fromHtml(text: string): string {
  return text
    .replaceAll(/<(script|style|head)\b[\s\S]*?<\/\1>/gi, (all) => all.replaceAll(/[^\n]/g, ''))
    .replaceAll(
      /<h([1-6])[^>]*>([\s\S]*?)<\/h\1>/gi,
      (_, level: string, words: string) => `\n${'#'.repeat(Number(level))} ${words.replaceAll(/<[^>]+>|\n/g, ' ').trim()}\n`,
    )
    .replaceAll(/<[^>]+>/g, ' ')
    .replaceAll('&lt;', '<')
    .replaceAll('&gt;', '>')
    .replaceAll('&quot;', '"')
    .replaceAll('&nbsp;', ' ')
    .replaceAll('&amp;', '&');
}

function split(text: string, heading: Heading): Section[] {
  const lines = text.split('\n');
  const found: Section[] = [];
  const above: { level: number; words: string }[] = [];
  const anchors = new Map<string, number>();
  let anchor = '';
  let start = 0;
  let isCode = false;
  const close = (end: number) => {
    const own = lines.slice(start, end).join('\n').trim();
    // A heading that is followed by another at once has nothing of its own.
    const isBare = above.length > 0 && !own.replace(/^.*(?:\n[=-]+)?/, '').trim() && end < lines.length;
    if (own !== '' && !isBare) found.push({ anchor, headings: above.map(({ words }) => words), text: own, line: start + 1 });
  };
  for (let at = 0; at < lines.length; at++) {
    if (/^ {0,3}(?:```|~~~)/.test(lines[at]!)) isCode = !isCode;
    const next = isCode ? undefined : heading(lines[at]!, lines[at + 1]);
    if (next === undefined) continue;
    close(at);
    while (above.length > 0 && above.at(-1)!.level >= next.level) above.pop();
    above.push(next);
    const base = slug(next.words);
    const count = anchors.get(base) ?? 0;
    anchors.set(base, count + 1);
    anchor = count === 0 ? base : `${base}-${count}`;
    start = at;
    at += next.lines - 1;
  }
  close(lines.length);
  return found;
}

const blockChars = 1500;

/** Blocks of a plain text or of source code: whole paragraphs, about so many characters each. */
function blocks(text: string): Section[] {
  const found: Section[] = [];
  let line = 1;
  let own = '';
  let start = 1;
  const close = () => {
    if (own.trim() !== '') found.push({ anchor: `line-${start}`, headings: [], text: own.trim(), line: start });
    own = '';
  };
  for (const paragraph of text.split(/(?<=\n)\n+/)) {
    if (own.length > 0 && own.length + paragraph.length > blockChars) close();
    if (own === '') start = line;
    own += `${paragraph}\n`;
    line += paragraph.split('\n').length;
  }
  close();
  return found;
}
