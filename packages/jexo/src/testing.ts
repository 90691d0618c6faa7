/**
 * For tests of a server, in any runner that has `expect.extend`.
 *
 * @example
 * import { connect, matchers } from 'jexo/testing';
 * import apiary from './apiary.js';
 * expect.extend(matchers);
 *
 * test('syrup for spring is thin', async () => {
 *   const client = await connect(apiary);
 *   expect(await client.call('mix_syrup', { colonies: 12 })).toAnswer({ sugarKg: 12, waterL: 12 });
 * });
 *
 * @module jexo/testing
 */
import { connect as connectPlain, type ConnectOptions, type ConnectTarget } from './targets/connect.js';
import type { Client } from './client/connect-link.js';
import { checkServer } from './inspect/checks/check-server.js';
import { severities, type Finding, type Severity } from './inspect/checks/finding.js';
import { applySilences, type Silence } from './inspect/checks/silences.js';
import { differences, type Difference } from './inspect/difference.js';
import { createWireJudge } from './inspect/judge-wire.js';
import type { CallToolResult } from './protocol/types.js';

export { createRecorder, type Recorder, type WireEntry } from './inspect/recorder.js';
export type { Severity } from './inspect/checks/finding.js';
export type { Silence } from './inspect/checks/silences.js';
export { storeChecks, type SharedStores, type StoreCheck } from './store-checks.js';
export { sourceChecks, type SourceCheck } from './source-checks.js';
export { standInModel } from './models/stand-in-model.js';
export { standInChooser } from './models/stand-in-chooser.js';
export { standIn } from './models/stand-in.js';
export { standInService } from './models/stand-in-service.js';
export { scriptedService, type ScriptedAnswer, type ScriptedRequest } from './models/scripted-service.js';
export { chatCompletions, type ChatCompletionsOptions } from './models/chat-completions.js';
export type { Candidate, Model, Move, TalkEntry, TalkImage, ToolCall, Turn, Usage } from './models/model.js';

const faults = new WeakMap<Client, string[]>();

/**
 * Connects to a server in memory (or to anything else of the target grammar), and judges every message that passes by the protocol.
 * Faults inside the server are thrown at the console of the test instead of being hidden behind a reference.
 *
 * @throws JexoError as `connect` of `jexo` does
 */
export async function connect(target: ConnectTarget, options: ConnectOptions = {}): Promise<Client> {
  const judge = createWireJudge();
  const found: string[] = [];
  const client = await connectPlain(target, {
    onFault: (error, reference) => console.error(`fault ${reference}:`, error),
    ...options,
    tap(event) {
      const wrong = judge(event);
      if (wrong !== undefined) found.push(`${event.way} ${JSON.stringify(event.message)}: ${wrong}`);
      options.tap?.(event);
    },
  });
  faults.set(client, found);
  return client;
}

interface Verdict {
  readonly pass: boolean;
  message(): string;
}
const verdict = (pass: boolean, text: string): Verdict => ({ pass, message: () => text });

/** The text of an answer, as a model reads it. */
export function textOf({ content }: CallToolResult): string {
  return content.map((block) => (block.type === 'text' ? block.text : `[${block.type}]`)).join('\n');
}

/** For `expect.extend(matchers)`. */
export const matchers = {
  /**
   * A tool's answer: a text or a pattern in what a model reads, or fields its structured answer must have. Further fields are
   * allowed; a plain value is compared with a function's `result`.
   */
  toAnswer(received: CallToolResult, expected: unknown): Verdict {
    if (received.isError) return verdict(false, `The tool failed: ${textOf(received)}`);
    if (typeof expected === 'string' || expected instanceof RegExp) {
      const text = textOf(received);
      const pass = typeof expected === 'string' ? text.includes(expected) : expected.test(text);
      return verdict(pass, `The answer ${pass ? 'says' : 'does not say'} ${String(expected)}:\n${text}`);
    }
    const isFields = typeof expected === 'object' && expected !== null && !Array.isArray(expected);
    const structured = received.structuredContent;
    const value = isFields ? structured : structured?.result;
    const wrong = differences(value, expected).filter((each) => !isFields || each.kind !== 'removed');
    return verdict(
      wrong.length === 0,
      wrong.length === 0 ? 'The answer is this.' : `The answer differs:\n${wrong.map(describe).join('\n')}`,
    );
  },
  /** A tool's failure, told to the model in these words. */
  toFail(received: CallToolResult, expected?: string | RegExp): Verdict {
    const text = textOf(received);
    const says = expected === undefined || (typeof expected === 'string' ? text.includes(expected) : expected.test(text));
    const pass = received.isError === true && says;
    return verdict(
      pass,
      received.isError
        ? `The tool failed${says ? '' : ', but does not say ' + String(expected)}: ${text}`
        : `The tool did not fail: ${text}`,
    );
  },
  /** What a server offers: names of tools and prompts, URIs of resources, templates. */
  async toOffer(received: Client, ...names: string[]): Promise<Verdict> {
    const offered = await offersOf(received);
    const missing = names.filter((name) => !offered.includes(name));
    return verdict(
      missing.length === 0,
      missing.length === 0
        ? `The server offers ${names.join(', ')}.`
        : `The server does not offer ${missing.join(', ')}; it offers ${offered.join(', ') || 'nothing'}.`,
    );
  },
  /** No finding of `jexo check` at least as severe as a warning, or as `from`; every message so far valid. */
  async toPassCheck(
    received: Client,
    options: { readonly from?: Severity; readonly silences?: readonly Silence[] } = {},
  ): Promise<Verdict> {
    const { from = 'warning', silences = [] } = options;
    const { tools, resources, prompts } = received.server.capabilities;
    const found = await checkServer({
      server: received.server,
      tools: tools === undefined ? [] : await received.tools(),
      resources: resources === undefined ? [] : await received.resources(),
      templates: resources === undefined ? [] : await received.templates(),
      prompts: prompts === undefined ? [] : await received.prompts(),
      omitted: [],
      foreign: false,
      deviations: faults.get(received) ?? [],
    });
    const kept = applySilences(found, silences).kept.filter(({ severity }) => severities.indexOf(severity) >= severities.indexOf(from));
    return verdict(kept.length === 0, kept.length === 0 ? 'The check finds nothing.' : `The check finds:\n${kept.map(line).join('\n')}`);
  },
};

/** The same as types, for the runner's own `expect`: see docs/testing.md. */
export interface JexoMatchers<R = unknown> {
  /** Passes when a call answers with this value. */
  toAnswer(expected: unknown): R;
  /** Passes when a call fails, with words that fit. */
  toFail(expected?: string | RegExp): R;
  /** Passes when a server offers all of these: tools and prompts by name, resources by URI. */
  toOffer(...names: string[]): Promise<R>;
  /** Passes when `jexo check` finds nothing at least as severe as `from`, silenced findings apart. */
  toPassCheck(options?: { readonly from?: Severity; readonly silences?: readonly Silence[] }): Promise<R>;
}

async function offersOf(client: Client): Promise<string[]> {
  const { tools, resources, prompts } = client.server.capabilities;
  return [
    ...(tools === undefined ? [] : (await client.tools()).map(({ name }) => name)),
    ...(prompts === undefined ? [] : (await client.prompts()).map(({ name }) => name)),
    ...(resources === undefined ? [] : (await client.resources()).map(({ uri }) => uri)),
    ...(resources === undefined ? [] : (await client.templates()).map(({ uriTemplate }) => uriTemplate)),
  ];
}

function describe({ path, kind, before, after }: Difference): string {
  const at = path === '' ? 'the answer' : path;
  if (kind === 'added') return `- ${at}: is missing; expected ${JSON.stringify(after)}`;
  return `- ${at}: expected ${JSON.stringify(after)}; got ${JSON.stringify(before)}`;
}

function line({ subject, message, rule }: Finding): string {
  return `- ${subject}: ${message} (${rule})`;
}
