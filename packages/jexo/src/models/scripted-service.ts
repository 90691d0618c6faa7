import { isRecord } from '../protocol/is-record.js';
import { pause } from '../engine/pause.js';

/** What a scripted service answers to one request. */
export type ScriptedAnswer =
  /** A text, calls of functions, or both; `parts` is how many parts a streamed answer comes in, `pauseMs` what passes between them. */
  | {
      readonly text?: string;
      readonly calls?: readonly { readonly name: string; readonly arguments: unknown; readonly id?: string }[];
      readonly refusal?: string;
      readonly finish?: string;
      readonly usage?: { readonly prompt_tokens: number; readonly completion_tokens: number };
      readonly parts?: number;
      readonly pauseMs?: number;
    }
  /** An error, with what else the answer says in its headers. */
  | {
      readonly status: number;
      readonly error?: { readonly message: string; readonly code?: string };
      readonly headers?: Record<string, string>;
    }
  /** Anything at all, as it stands. */
  | { readonly body: string; readonly type?: string };

/** A request as the service got it. */
export interface ScriptedRequest {
  /** The conversation. */
  readonly messages: readonly Readonly<Record<string, unknown>>[];
  /** The functions it may call. */
  readonly tools?: readonly { readonly function: { readonly name: string } }[];
  /** True when the answer is to come in parts. */
  readonly stream?: boolean;
  /** The model that was asked for. */
  readonly model?: string;
}

/**
 * A stand-in for a model service that answers what it is told to: for tests of what talks to such a service. It is no model. It speaks the
 * chat-completions JSON, whole or streamed, with usage, refusals, errors and pauses.
 *
 * @param script the answers in their order, or what makes one of a request; a list that has ended answers with its last
 * @example
 * const service = scriptedService([{ calls: [{ name: 'mix_syrup', arguments: { colonies: 12 } }] }, { text: '**28 kg** of sugar.' }]);
 * // (request: Request) => Promise<Response>: serve it with any HTTP server.
 */
export function scriptedService(
  script: readonly ScriptedAnswer[] | ((request: ScriptedRequest, count: number) => ScriptedAnswer),
): (request: Request) => Promise<Response> {
  let count = 0;
  return async (request) => {
    const { pathname } = new URL(request.url);
    if (request.method !== 'POST' || !pathname.endsWith('/chat/completions'))
      return Response.json({ error: { message: `There is nothing at ${pathname}.` } }, { status: 404 });
    const asked: unknown = await request.json().catch(() => undefined);
    if (!isRecord(asked) || !Array.isArray(asked.messages))
      return Response.json({ error: { message: 'The body must be JSON with messages.' } }, { status: 400 });
    const at = count++;
    const given = asked as unknown as ScriptedRequest;
    const answer = typeof script === 'function' ? script(given, at) : script[Math.min(at, script.length - 1)]!;
    if ('body' in answer) return new Response(answer.body, { headers: { 'content-type': answer.type ?? 'application/json' } });
    if ('status' in answer)
      return Response.json(
        { error: answer.error ?? { message: `HTTP ${answer.status}` } },
        { status: answer.status, headers: answer.headers ?? {} },
      );
    return given.stream === true ? streamed(answer) : Response.json(whole(answer));
  };
}

type Said = Extract<ScriptedAnswer, { readonly parts?: number }>;

const callsOf = ({ calls = [] }: Said) =>
  calls.map(({ name, arguments: input, id }, index) => ({
    id: id ?? `call-${index + 1}`,
    type: 'function',
    function: { name, arguments: typeof input === 'string' ? input : JSON.stringify(input) },
  }));
const finishOf = ({ finish, calls = [] }: Said) => finish ?? (calls.length > 0 ? 'tool_calls' : 'stop');

function whole(answer: Said): object {
  const { text, refusal, usage } = answer;
  const calls = callsOf(answer);
  return {
    id: 'scripted',
    object: 'chat.completion',
    model: 'scripted',
    choices: [
      {
        index: 0,
        message: {
          role: 'assistant',
          content: text ?? null,
          ...(refusal !== undefined && { refusal }),
          ...(calls.length > 0 && { tool_calls: calls }),
        },
        finish_reason: finishOf(answer),
      },
    ],
    ...(usage && { usage }),
  };
}

/** The text in parts; each call by its name first, then its arguments in parts. */
function streamed(answer: Said): Response {
  const { text = '', refusal, usage, parts = 4, pauseMs = 0 } = answer;
  const chunks: object[] = [{ role: 'assistant', content: '' }, ...inParts(text, parts).map((content) => ({ content }))];
  if (refusal !== undefined) chunks.push(...inParts(refusal, parts).map((part) => ({ refusal: part })));
  for (const [index, { id, type, function: asked }] of callsOf(answer).entries()) {
    chunks.push({ tool_calls: [{ index, id, type, function: { name: asked.name, arguments: '' } }] });
    for (const part of inParts(asked.arguments, parts)) chunks.push({ tool_calls: [{ index, function: { arguments: part } }] });
  }
  const lines = [
    ...chunks.map((delta) => ({ choices: [{ index: 0, delta, finish_reason: null }] })),
    { choices: [{ index: 0, delta: {}, finish_reason: finishOf(answer) }] },
    ...(usage === undefined ? [] : [{ choices: [], usage }]),
  ];
  const encoder = new TextEncoder();
  let isGone = false;
  const body = new ReadableStream<Uint8Array>({
    async start(controller) {
      for (const line of lines) {
        if (pauseMs > 0) await pause(pauseMs);
        if (isGone) return;
        controller.enqueue(encoder.encode(`data: ${JSON.stringify(line)}\n\n`));
      }
      controller.enqueue(encoder.encode('data: [DONE]\n\n'));
      controller.close();
    },
    cancel: () => void (isGone = true),
  });
  return new Response(body, { headers: { 'content-type': 'text/event-stream' } });
}

function inParts(text: string, count: number): string[] {
  if (text === '') return [];
  const size = Math.max(1, Math.ceil(text.length / count));
  return Array.from({ length: Math.ceil(text.length / size) }, (_, index) => text.slice(index * size, (index + 1) * size));
}
