import { lexer, type Token, type Tokens } from 'marked';
import { onOut, symbols, table, width } from '../terminal.js';

/** Markdown on its way to the terminal: each block is written as soon as it is whole. */
export interface MarkdownStream {
  add(part: string): void;
  /** Writes what is left. */
  end(): void;
}

export function markdownStream(write: (line: string) => void): MarkdownStream {
  let text = '';
  let isFirst = true;
  const show = (tokens: readonly Token[]) => {
    for (const token of tokens) {
      const lines = blockLines(token, width());
      if (lines.length === 0) continue;
      if (!isFirst) write('');
      isFirst = false;
      lines.forEach(write);
    }
  };
  return {
    add(part) {
      text += part;
      // The last block may go on: a table grows by rows, a list by items.
      const tokens = lexer(text);
      const whole = tokens.slice(0, -1);
      if (whole.every(({ type }) => type === 'space')) return;
      show(whole);
      text = tokens.at(-1)!.raw;
    },
    end() {
      show(lexer(text));
      text = '';
    },
  };
}

type Paint = (text: string) => string;
const plain: Paint = (text) => text;

function blockLines(token: Token, columns: number): string[] {
  switch (token.type) {
    case 'heading':
      return filled((token as Tokens.Heading).tokens, columns, (text) => onOut('bold', text));
    case 'paragraph':
    case 'text':
      return filled(token.tokens ?? [token], columns);
    case 'list':
      return listLines(token as Tokens.List, columns);
    case 'table':
      return tableLines(token as Tokens.Table, columns);
    case 'code':
      return (token as Tokens.Code).text.split('\n').map((line) => `  ${onOut('lake', line)}`);
    case 'blockquote':
      return (token.tokens ?? []).flatMap((each) => blockLines(each, columns - 2)).map((line) => `${onOut('quiet', '│')} ${line}`);
    case 'hr':
      return [onOut('quiet', symbols.track.repeat(Math.min(columns, 40)))];
    case 'html':
      return (token as Tokens.HTML).text.trimEnd().split('\n');
    default:
      return [];
  }
}

function listLines({ items, ordered, start }: Tokens.List, columns: number): string[] {
  return items.flatMap((item, index) => {
    const sign = ordered ? `${Number(start || 1) + index}.` : symbols.dot;
    const box = item.task ? `[${item.checked ? 'x' : ' '}] ` : '';
    const lines = item.tokens.flatMap((each) => blockLines(each, columns - sign.length - 1));
    return lines.map((line, at) => (at === 0 ? `${onOut('quiet', sign)} ${box}${line}` : `${' '.repeat(sign.length + 1)}${line}`));
  });
}

function tableLines({ header, rows }: Tokens.Table, columns: number): string[] {
  const cell = ({ tokens }: Tokens.TableCell) =>
    wordsOf(tokens, plain)
      .map(({ text }) => text)
      .join(' ');
  return table(
    header.map(cell),
    rows.map((row) => row.map(cell)),
    columns,
  );
}

interface Word {
  readonly text: string;
  readonly paint: Paint;
  /** True when nothing stands between it and the word before. */
  readonly isJoined: boolean;
}

/** Inline Markdown as lines of at most so many letters; colours do not count. */
function filled(tokens: readonly Token[], columns: number, paint: Paint = plain): string[] {
  const lines: string[] = [];
  let line = '';
  let length = 0;
  for (const { text, paint: own, isJoined } of wordsOf(tokens, paint)) {
    if (text === '\n' || (length > 0 && !isJoined && length + 1 + text.length > columns)) {
      lines.push(line);
      line = '';
      length = 0;
      if (text === '\n') continue;
    }
    const gap = length === 0 || isJoined ? '' : ' ';
    line += gap + own(text);
    length += gap.length + text.length;
  }
  return line === '' ? lines : [...lines, line];
}

function wordsOf(tokens: readonly Token[], paint: Paint): Word[] {
  const words: Word[] = [];
  let endsOpen = false;
  const add = (text: string, own: Paint) => {
    const parts = text.split(/\s+/);
    parts.forEach((part, index) => {
      if (part === '') return;
      words.push({ text: part, paint: own, isJoined: index === 0 && endsOpen && !/^\s/.test(text) });
    });
    endsOpen = text !== '' && !/\s$/.test(text);
  };
  const visit = (token: Token, own: Paint) => {
    if (token.type === 'br') return void words.push({ text: '\n', paint: plain, isJoined: false });
    if (token.type === 'codespan') return add(decoded((token as Tokens.Codespan).text), (text) => onOut('lake', text));
    if (token.type === 'strong') return token.tokens!.forEach((each) => visit(each, (text) => onOut('bold', text)));
    if (token.type === 'link') {
      token.tokens!.forEach((each) => visit(each, own));
      const { href, text } = token as Tokens.Link;
      if (href !== text) add(` (${href})`, (each) => onOut('quiet', each));
      return;
    }
    if (token.type === 'image') return add(`[${(token as Tokens.Image).text}] (${(token as Tokens.Image).href})`, own);
    if ('tokens' in token && Array.isArray(token.tokens)) return token.tokens.forEach((each: Token) => visit(each, own));
    return add(decoded('text' in token ? String(token.text) : token.raw), own);
  };
  tokens.forEach((each) => visit(each, paint));
  return words;
}

const letters: Readonly<Record<string, string>> = { '&lt;': '<', '&gt;': '>', '&quot;': '"', '&#39;': "'", '&amp;': '&' };
const decoded = (text: string) => text.replaceAll(/&(?:lt|gt|quot|#39|amp);/g, (each) => letters[each]!);
