import { Document, isMap, isSeq, parseDocument, stringify, type Node, type YAMLMap } from 'yaml';
import { JexoError } from '../../errors.js';
import { isRecord } from '../../protocol/is-record.js';
import { same } from '../difference.js';
import { parsePath, replaceAt, valueAt } from '../value-path.js';
import type { CallSheetFile, KeptKind, KeptReply, Must } from './call-sheet.js';
import { likeness, stableWords } from './judge-answer.js';
import type { Replayed } from './replay.js';

/** A call to be put on a sheet. */
export interface CallToKeep {
  readonly name?: string;
  readonly kind: KeptKind;
  readonly subject: string;
  readonly input: Readonly<Record<string, unknown>>;
  readonly must?: Must;
  readonly replies?: readonly (Partial<KeptReply> | 'decline' | 'cancel' | 'accept')[];
}

const verbs: Record<KeptKind, string> = { tool: 'call', resource: 'read', prompt: 'render' };

const head = `# yaml-language-server: $schema=./node_modules/jexo/dist/calls.schema.json
# Calls and what they must answer. Replay them with: jexo replay `;

/** Long texts stay on one line: a fold would move with every edit. */
const lineWidth = 0;

/** A sheet's text with one more call at its end; all else stays as it is. An empty text becomes a new sheet. */
export function addCall(text: string, file: string, call: CallToKeep, target?: string | readonly string[]): string {
  if (text.trim() === '') {
    const name = file.replace(/^.*[\\/]/, '');
    const named = target === undefined ? '' : stringify({ target }, { lineWidth, collectionStyle: 'any' });
    return addCall(`${head}${name}\n${named}calls: []\n`, file, call);
  }
  const document = parseDocument(text);
  const calls = document.get('calls', true);
  if (!isSeq(calls)) throw new JexoError('JEXO_SHEET', `${file}: calls is not a list.`, { where: file });
  const { kind, subject, input, must, replies } = call;
  const names = new Set(calls.items.map((item) => (isMap(item) ? item.get('name') : undefined)));
  let { name } = call;
  for (let count = 2; name !== undefined && names.has(name); count++) name = `${call.name} (${count})`;
  const item = {
    ...(name !== undefined && { name }),
    [verbs[kind]]: subject,
    ...(Object.keys(input).length > 0 && { with: input }),
    ...(replies && replies.length > 0 && { replies }),
    ...(must && { must }),
  };
  const last = calls.items.at(-1) as Node | undefined;
  if (calls.flow) {
    const before = calls.items.map((each) => (each as Node).toJSON() as unknown);
    return splice(text, [{ from: calls.range![0], to: calls.range![1], by: `\n${indent(write([...before, item]), 2)}` }]).replace(
      'calls: \n',
      'calls:\n',
    );
  }
  const dash = text.lastIndexOf('-', last!.range![0] - 1);
  const end = endOf(text, last!);
  return splice(text, [{ from: end, to: end, by: `\n${indent(write([item]), columnOf(text, dash))}` }]);
}

/** A value as block YAML, small parts on one line, as a person would write them. */
function write(value: unknown, blocks = 2): string {
  const document = new Document(value);
  const settle = (each: unknown, plain: unknown, depth: number) => {
    if (typeof plain !== 'object' || plain === null) return;
    const collection = each as { flow?: boolean; items: { value?: unknown }[] };
    const inner = Array.isArray(plain) ? plain : Object.values(plain);
    const text = JSON.stringify(plain);
    if (depth >= blocks && text.length < 72 && !text.includes('\\n')) collection.flow = true;
    else
      inner.forEach((child, index) =>
        settle(Array.isArray(plain) ? collection.items[index] : collection.items[index]?.value, child, depth + 1),
      );
  };
  settle(document.contents, value, 0);
  return document.toString({ lineWidth }).trimEnd();
}

interface Splice {
  readonly from: number;
  readonly to: number;
  readonly by: string;
}

/** Puts other text in place of parts; line ends are those of the file. */
function splice(text: string, changes: readonly Splice[]): string {
  const ends = text.includes('\r\n') ? '\r\n' : '\n';
  return [...changes]
    .sort((a, b) => b.from - a.from)
    .reduce((whole, { from, to, by }) => whole.slice(0, from) + by.replaceAll('\n', ends) + whole.slice(to), text);
}

/** Where a value's last character is: the parser counts the line end behind a block to it. */
const endOf = (text: string, node: Node) => text.slice(0, node.range![1]).trimEnd().length;

const columnOf = (text: string, at: number) => at - (text.lastIndexOf('\n', at - 1) + 1);

function indent(text: string, columns: number, first = columns): string {
  return text
    .split('\n')
    .map((line, index) => (line === '' ? '' : ' '.repeat(index === 0 ? first : columns) + line))
    .join('\n');
}

export interface Updated {
  readonly text: string;
  /** Names of the calls whose expectations were updated. */
  readonly names: readonly string[];
}

/**
 * Writes what came in place of what was wanted, for the calls that differ; every other byte stays. What is demanded by schema,
 * by words or by time is left: no answer says what it should be instead.
 */
export function updateSheet({ file, text, document, calls: kept }: CallSheetFile, { calls }: Replayed): Updated {
  const names: string[] = [];
  const demands = new Map<number, Must>();
  const changes: Splice[] = [];
  for (const { name, index, status, answer, failure } of calls) {
    if (status === 'as kept') continue;
    const must = kept[index]!.must ?? {};
    const next = nextMust(must, answer, failure);
    if (JSON.stringify(next) === JSON.stringify(must)) continue;
    names.push(name);
    demands.set(index, next);
    changes.push(replaceMust(text, document.getIn(['calls', index], true) as YAMLMap<Node, Node>, next));
  }
  const updated = splice(text, changes);
  requireSame(file, document, updated, demands);
  return { text: updated, names };
}

/** What was written must read as the sheet with the new demands, and nothing else. @throws JexoError JEXO_SHEET */
function requireSame(file: string, before: Document, text: string, demands: ReadonlyMap<number, Must>): void {
  const wanted = before.toJS() as { calls: Record<string, unknown>[] };
  for (const [index, must] of demands) wanted.calls[index] = { ...wanted.calls[index], must: JSON.parse(JSON.stringify(must)) as unknown };
  const after = parseDocument(text);
  if (after.errors.length === 0 && same(wanted, after.toJS())) return;
  throw new JexoError(
    'JEXO_SHEET',
    `${file} is written in a way that cannot be updated without changing more than what its calls must answer.`,
    {
      where: file,
      next: 'Nothing was changed. Change the lines named above by hand.',
    },
  );
}

function nextMust(must: Must, answer: unknown, failure: string | undefined): Must {
  const { be: _be, have: _have, say: _say, at: _at, fit: _fit, fail, ...others } = must;
  if (failure !== undefined) return { ...others, fail: stableWords(failure) };
  if (fail !== undefined) return { ...others, be: answer };
  return {
    ...must,
    ...('be' in must && { be: keepReferences(must.be, answer) }),
    ...('have' in must && { have: keepReferences(must.have, likeness(must.have, answer)) }),
    ...(must.at && {
      at: keepReferences(
        must.at,
        Object.fromEntries(Object.keys(must.at).map((path) => [path, valueAt(answer, parsePath(path)) ?? null])),
      ) as Must['at'] & object,
    }),
  };
}

function replaceMust(text: string, call: YAMLMap<Node, Node>, must: Must): Splice {
  const pair = call.items.find(({ key }) => (key as { value?: unknown }).value === 'must');
  const place = pair ?? call.items[0]!;
  const column = columnOf(text, place.key.range![0]);
  if (call.flow) {
    const line = JSON.stringify(must);
    if (pair !== undefined) return { from: pair.value!.range![0], to: pair.value!.range![1], by: line };
    const end = call.items.at(-1)!.value!.range![1];
    return { from: end, to: end, by: `, must: ${line}` };
  }
  const block = indent(write({ must }, 1), column, 0);
  if (pair !== undefined) return { from: pair.key.range![0], to: endOf(text, pair.value!), by: block };
  const end = endOf(text, call.items.at(-1)!.value!);
  return { from: end, to: end, by: `\n${' '.repeat(column)}${block}` };
}

/** What stands there by reference to a captured value stays a reference. */
function keepReferences(before: unknown, after: unknown): unknown {
  if (typeof before === 'string' && before.includes('${')) return before;
  if (!isRecord(before) || !isRecord(after)) return after;
  return Object.keys(after).reduce<unknown>(
    (value, key) => (key in before ? replaceAt(value, [key], (item) => keepReferences(before[key], item)) : value),
    after,
  );
}
