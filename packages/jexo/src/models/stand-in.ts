import { isRecord } from '../protocol/is-record.js';
import type { Model, TalkEntry } from './model.js';
import { weigh } from './stand-in-chooser.js';

/**
 * A stand-in for a model that holds a conversation. It is none, and says so. It takes the request apart where it says “then” or a new
 * sentence begins, chooses a tool for each part by the words they share, and answers with what the tools answered, as Markdown. The same
 * request always leads to the same calls.
 */
export const standIn: Model = {
  name: 'stand-in',
  isStandIn: true,
  next({ tools, talk, onText }) {
    const start = talk.findLastIndex(({ role }) => role === 'user');
    const request = talk[start];
    const since = talk.slice(start + 1);
    // A page of a tool says what has been done in it: that is news, and no request.
    if (request?.role === 'user' && /nothing is asked of you/i.test(request.text))
      return Promise.resolve(spoken(`${saysWho} Noted.`, onText));
    const parts = request?.role === 'user' ? partsOf(request.text) : [];
    const asked = since.filter((entry) => entry.role === 'assistant' && entry.calls.length > 0).length;
    const results = since.filter((entry): entry is Result => entry.role === 'tool');
    if (results.at(-1)?.failed !== true) {
      // A part that no tool has words for is passed over.
      const chosen = parts.flatMap((part) => weigh(part, tools).slice(0, 1))[asked];
      const own = tools.some(({ name }) => name === 'find_tools') && asked === 0 && parts.length > 0;
      if (chosen !== undefined) {
        const candidates = weigh(parts[0]!, tools);
        return Promise.resolve({ calls: [{ id: `call-${talk.length}`, name: chosen.tool, input: chosen.input }], candidates });
      }
      if (own) return Promise.resolve({ calls: [{ id: `call-${talk.length}`, name: 'find_tools', input: { words: parts.join(' ') } }] });
    }
    return Promise.resolve(spoken(answerOf(results), onText));
  },
};

const saysWho = '(stand-in, not a model)';

function spoken(text: string, onText: ((text: string) => void) | undefined) {
  onText?.(text);
  return { calls: [], text };
}

type Result = TalkEntry & { readonly role: 'tool' };

/** “Weigh MR-03, then mix syrup for 12 colonies. When is the harvest?” has three parts. */
function partsOf(text: string): string[] {
  return text
    .split(/(?:[,;]?\s+(?:and\s+)?then\s+)|(?<=[.?!])\s+(?=\p{Lu})|;\s+/u)
    .map((part) => part.trim())
    .filter((part) => part !== '');
}

function answerOf(results: readonly Result[]): string {
  if (results.length === 0) return `${saysWho} No tool has enough of these words.`;
  const texts = results.map(({ name, text, failed }) =>
    failed ? `**${name}** failed: ${text}` : `**${name}** answered:\n\n${readable(text)}`,
  );
  return `${saysWho}\n\n${texts.join('\n\n')}`;
}

/** A structured answer as a table or a list; any other text as it is. */
function readable(text: string): string {
  let value: unknown;
  try {
    value = JSON.parse(text);
  } catch {
    return text;
  }
  const inner = isRecord(value) && Object.keys(value).length === 1 ? Object.values(value)[0] : value;
  if (Array.isArray(inner) && inner.length > 0 && inner.every(isRecord)) return tableOf(inner);
  const lines: string[] = [];
  for (const [key, each] of Object.entries(isRecord(value) ? value : { result: value })) {
    if (Array.isArray(each) && each.length > 0 && each.every(isRecord)) lines.push('', `${key}:`, '', tableOf(each), '');
    else lines.push(`- ${key}: ${cell(each)}`);
  }
  return lines.join('\n').trim();
}

const mostRows = 20;

function tableOf(rows: readonly Record<string, unknown>[]): string {
  const keys = [...new Set(rows.flatMap((row) => Object.keys(row)))];
  const line = (cells: readonly string[]) => `| ${cells.join(' | ')} |`;
  const more = rows.length > mostRows ? `\n\n…and ${rows.length - mostRows} more rows.` : '';
  return `${[line(keys), line(keys.map(() => '---')), ...rows.slice(0, mostRows).map((row) => line(keys.map((key) => cell(row[key]))))].join('\n')}${more}`;
}

const cell = (value: unknown): string =>
  (typeof value === 'string' ? value : value === undefined ? '' : JSON.stringify(value)).replaceAll('|', '\\|').replaceAll('\n', ' ');
