import type { Tool } from '../protocol/types.js';

/** Answers that are longer than what the model is given of them, and the tool by which it reads on. */
export interface LongAnswers {
  /** The tool; offered once an answer was cut. */
  readonly tool: Tool;
  readonly hasAny: boolean;
  /** The first part of a text, with a note on how to read on. A text that is short enough stays as it is. */
  cut(text: string, about?: string): { readonly text: string; readonly cutFrom?: number };
  /** Answers the tool. */
  read(input: Readonly<Record<string, unknown>>): { readonly text: string; readonly failed: boolean };
}

/** Characters of all long answers that are kept; the oldest go first. */
const mostKept = 8_000_000;

/**
 * @param characters what the model is given at once
 * @param name the tool's name: one that no server's tool has
 */
export function createLongAnswers(characters: number, name: string): LongAnswers {
  const kept = new Map<string, string>();
  let last = 0;
  let size = 0;
  const part = (id: string, whole: string, from: number): string => {
    const to = Math.min(whole.length, endOf(whole, from + characters));
    const text = whole.slice(from, to);
    if (to >= whole.length) return text;
    return `${text}\n[…characters ${from} to ${to} of ${whole.length}. Read on with ${name}: ${JSON.stringify({ answer: id, from: to })}]`;
  };
  return {
    tool: {
      name,
      description: 'Reads on in a long answer that was cut. The note at the end of the part says with which arguments.',
      inputSchema: {
        type: 'object',
        properties: {
          answer: { type: 'string', description: 'The answer, as the note names it.' },
          from: { type: 'integer', minimum: 0, description: 'The first character to read.' },
        },
        required: ['answer', 'from'],
      },
      annotations: { readOnlyHint: true },
    },
    get hasAny() {
      return kept.size > 0;
    },
    cut(text, about) {
      if (text.length <= characters) return { text };
      const id = `a${++last}`;
      kept.set(id, text);
      size += text.length;
      for (const [oldest, each] of kept) {
        if (size <= mostKept || oldest === id) break;
        kept.delete(oldest);
        size -= each.length;
      }
      if (about === undefined) return { text: part(id, text, 0), cutFrom: text.length };
      const note = `[A summary of ${text.length} characters. Read them with ${name}: ${JSON.stringify({ answer: id, from: 0 })}]`;
      return { text: `${about}\n${note}`, cutFrom: text.length };
    },
    read({ answer, from }) {
      const whole = kept.get(String(answer));
      if (whole === undefined) return { text: `There is no answer ${JSON.stringify(answer)} to read on in.`, failed: true };
      const start = Number(from);
      if (!Number.isInteger(start) || start < 0 || start >= whole.length)
        return { text: `from must be a whole number from 0 to ${whole.length - 1}.`, failed: true };
      return { text: part(String(answer), whole, start), failed: false };
    },
  };
}

/** Never between the two halves of a letter. */
function endOf(text: string, at: number): number {
  const code = text.charCodeAt(at - 1);
  return code >= 0xd800 && code <= 0xdbff ? at + 1 : at;
}
