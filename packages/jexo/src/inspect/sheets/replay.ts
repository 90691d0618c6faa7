import type { ServerAnswers } from '../../client/answer-server.js';
import type { Client } from '../../client/connect-link.js';
import { isJexoError, messageOf } from '../../errors.js';
import { RpcError } from '../../protocol/json-rpc.js';
import type { CallToolResult } from '../../protocol/types.js';
import { parsePath, valueAt } from '../value-path.js';
import { masked, promptAnswer, resourceAnswer, toolAnswer } from './answer-value.js';
import { fillIn, type CallSheetFile, type KeptCall } from './call-sheet.js';
import { judgeAnswer, type Outcome, type Wrong } from './judge-answer.js';
import { createScript, type Script } from './script.js';

export interface ReplayedCall {
  readonly name: string;
  readonly index: number;
  readonly line: number;
  readonly kind: KeptCall['kind'];
  readonly subject: string;
  readonly status: 'as kept' | 'different';
  readonly tookMs: number;
  readonly wrong: readonly Wrong[];
  /** What came, masked as the sheet wants it. */
  readonly answer?: unknown;
  /** How it failed, when it did. */
  readonly failure?: string;
}

export interface Replayed {
  readonly file: string;
  readonly calls: readonly ReplayedCall[];
  readonly tookMs: number;
}

export interface ReplayOptions {
  /** Opens the server again; its questions are answered from the sheet. */
  readonly connect: (answers: ServerAnswers) => Promise<Client>;
  /** Which calls: names, or patterns as `lots*`. What they need of earlier calls is run too. Default: all. */
  readonly only?: readonly string[];
  readonly env?: Readonly<Record<string, string | undefined>>;
  readonly signal?: AbortSignal;
  readonly onCall?: (call: ReplayedCall, done: number, of: number) => void;
}

/**
 * Makes the calls of a sheet, in order, on one connection, and says of each whether the answer is what it must be.
 * @throws JexoError when the server cannot be reached
 */
export async function replaySheet(sheet: CallSheetFile, { connect, only, env = {}, signal, onCall }: ReplayOptions): Promise<Replayed> {
  const chosen = chooseCalls(sheet.calls, only);
  const start = performance.now();
  const script = createScript();
  const client = await connect(script.answers);
  const known = new Map<string, unknown>();
  const calls: ReplayedCall[] = [];
  try {
    if (client.server.capabilities.tools !== undefined) await client.tools(); // output schemas are checked too
    for (const call of chosen) {
      signal?.throwIfAborted();
      const done = await replayCall(call, { client, known, env, script, ...(signal && { signal }) });
      calls.push(done);
      onCall?.(done, calls.length, chosen.length);
    }
  } finally {
    await client.close();
  }
  return { file: sheet.file, calls, tookMs: performance.now() - start };
}

/** The calls whose names are wanted, and before them those that capture what they use. */
export function chooseCalls(calls: readonly KeptCall[], only: readonly string[] | undefined): KeptCall[] {
  if (only === undefined || only.length === 0) return [...calls];
  const patterns = only.map((each) => new RegExp(`^${each.split('*').map(escape).join('.*')}$`, 'i'));
  const wanted = new Set(calls.filter(({ name }) => patterns.some((pattern) => pattern.test(name))));
  for (const call of [...calls].reverse()) {
    if (!wanted.has(call)) continue;
    for (const earlier of calls) if (call.after.includes(earlier.name)) wanted.add(earlier);
    for (const use of call.uses) {
      const source = calls.findLast((each) => each.index < call.index && use in each.capture);
      if (source !== undefined) wanted.add(source);
    }
  }
  return calls.filter((call) => wanted.has(call));
}

const escape = (text: string) => text.replaceAll(/[.*+?^${}()|[\]\\]/g, String.raw`\$&`);

interface Running {
  readonly client: Client;
  readonly known: Map<string, unknown>;
  readonly env: NonNullable<ReplayOptions['env']>;
  readonly script: Script;
  readonly signal?: AbortSignal;
}

async function replayCall(call: KeptCall, { client, known, env, script, signal }: Running): Promise<ReplayedCall> {
  const { name, index, line, kind } = call;
  const base = { name, index, line, kind };
  let filled: Pick<KeptCall, 'subject' | 'input' | 'must' | 'replies'>;
  try {
    const { subject, input, must, replies } = call;
    filled = fillIn({ subject, input, replies, ...(must && { must }) }, known, env);
  } catch (error) {
    return { ...base, subject: call.subject, status: 'different', tookMs: 0, wrong: [{ message: messageOf(error) }] };
  }
  script.begin(filled.replies);
  const start = performance.now();
  const outcome = await perform(client, kind, filled, { timeoutMs: call.seconds * 1000, ...(signal && { signal }) });
  const tookMs = performance.now() - start;
  signal?.throwIfAborted();
  const wrong = [...script.end(), ...(await judgeAnswer(outcome, filled.must, call.masks, tookMs))];
  if (!outcome.failed)
    for (const [key, path] of Object.entries(call.capture)) {
      const value = valueAt(outcome.answer.value, parsePath(path));
      if (value === undefined) wrong.push({ message: `The answer has no ${path}, which was to be captured as ${key}.` });
      else known.set(key, value);
    }
  return {
    ...base,
    subject: filled.subject,
    status: wrong.length === 0 ? 'as kept' : 'different',
    tookMs,
    wrong,
    ...(outcome.failed ? { failure: outcome.words } : { answer: masked(outcome.answer.value, call.masks) }),
  };
}

async function perform(
  client: Client,
  kind: KeptCall['kind'],
  { subject, input }: Pick<KeptCall, 'subject' | 'input'>,
  options: { timeoutMs: number; signal?: AbortSignal },
): Promise<Outcome> {
  try {
    if (kind === 'resource') return { failed: false, answer: await resourceAnswer(await client.read(subject, options)) };
    if (kind === 'prompt')
      return { failed: false, answer: await promptAnswer(await client.prompt(subject, input as Record<string, string>, options)) };
    const result: CallToolResult = await client.call(subject, { ...input }, options);
    const answer = await toolAnswer(result);
    return result.isError ? { failed: true, words: answer.text } : { failed: false, answer };
  } catch (error) {
    if (error instanceof RpcError || isJexoError(error)) return { failed: true, words: error.message };
    throw error;
  }
}
