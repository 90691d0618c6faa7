import { JexoError, messageOf } from '../errors.js';
import { isRecord } from '../offers/answer.js';
import type { Model, Move, TalkEntry, Turn } from './model.js';

export interface ChatCompletionsOptions {
  /** Where the service is, up to and without `/chat/completions`, as `https://models.example/v1`. */
  readonly base: string;
  /** The model's name, as the service knows it. */
  readonly model: string;
  /** Sent as `Authorization: Bearer`. */
  readonly key?: string;
  /** Milliseconds to wait for an answer. Default 60,000. */
  readonly timeoutMs?: number;
  /** Times a busy service is asked again. Default 3. */
  readonly retries?: number;
}

/** The longest a service may have us wait between two tries, in milliseconds. */
const longestPause = 30_000;

/**
 * A driver to any service that speaks the widespread chat-completions JSON: `POST {base}/chat/completions` with `messages`
 * and `tools`, the calls in `choices[0].message.tool_calls`.
 *
 * @throws JexoError JEXO_MODEL from `next`, when the service refuses, does not answer or answers with something else
 * @example
 * const model = chatCompletions({ base: 'http://127.0.0.1:8080/v1', model: 'small', key: process.env.JEXO_MODEL_KEY });
 */
export function chatCompletions({ base, model, key, timeoutMs = 60_000, retries = 3 }: ChatCompletionsOptions): Model {
  if (!URL.canParse(base) || !/^https?:/i.test(base))
    throw new JexoError('JEXO_USAGE', `${JSON.stringify(base)} is not the address of a model service.`, {
      next: 'Give its base URL, as http://127.0.0.1:8080/v1',
    });
  const url = `${base.replace(/\/+$/, '').replace(/\/chat\/completions$/, '')}/chat/completions`;
  return {
    name: model,
    isStandIn: false,
    async next(turn, signal) {
      const body = JSON.stringify({
        model,
        temperature: 0,
        messages: messagesOf(turn),
        tools: turn.tools.map(toFunction),
        tool_choice: 'auto',
      });
      for (let attempt = 0; ; attempt++) {
        const response = await post(url, body, key, AbortSignal.any([AbortSignal.timeout(timeoutMs), ...(signal ? [signal] : [])]), signal);
        if (response.ok) return readMove(await response.text(), url);
        const busy = response.status === 429 || response.status >= 500;
        if (!busy || attempt >= retries) throw refusal(url, response.status, await response.text());
        await response.body?.cancel();
        await pause(pauseOf(response.headers.get('retry-after'), attempt), signal);
      }
    },
  };
}

async function post(
  url: string,
  body: string,
  key: string | undefined,
  limit: AbortSignal,
  own: AbortSignal | undefined,
): Promise<Response> {
  try {
    return await fetch(url, {
      method: 'POST',
      headers: { 'content-type': 'application/json', ...(key !== undefined && key !== '' && { authorization: `Bearer ${key}` }) },
      body,
      signal: limit,
    });
  } catch (error) {
    own?.throwIfAborted();
    const why = limit.aborted ? 'it did not answer in time' : messageOf((error as { cause?: unknown }).cause ?? error);
    throw new JexoError('JEXO_MODEL', `The model service at ${url} cannot be used: ${why}.`, { where: url, cause: error });
  }
}

function refusal(url: string, status: number, text: string): JexoError {
  const said = /"message"\s*:\s*"((?:[^"\\]|\\.)*)"/.exec(text)?.[1] ?? text.slice(0, 200);
  const next: Record<number, string> = {
    401: 'Put the right key into JEXO_MODEL_KEY.',
    403: 'This key may not use the model; ask whoever runs the service.',
    404: 'Check the base URL, which mostly ends in /v1, and the name of the model.',
    429: 'The service is busy, or the key is used up. Try again later.',
  };
  return new JexoError('JEXO_MODEL', `The model service at ${url} answered with HTTP ${status}${said === '' ? '' : `: ${said}`}`, {
    where: url,
    ...(next[status] !== undefined && { next: next[status] }),
    data: { status },
  });
}

/** As the service wants it in `Retry-After`, in seconds or as a date; otherwise twice as long each time. */
function pauseOf(retryAfter: string | null, attempt: number): number {
  const wanted = retryAfter === null ? NaN : /^\d+$/.test(retryAfter) ? Number(retryAfter) * 1000 : Date.parse(retryAfter) - Date.now();
  return Math.min(longestPause, Number.isNaN(wanted) ? 500 * 2 ** attempt : Math.max(0, wanted));
}

function pause(ms: number, signal: AbortSignal | undefined): Promise<void> {
  return new Promise((resolve, reject) => {
    const timer = setTimeout(() => {
      signal?.removeEventListener('abort', stop);
      resolve();
    }, ms);
    const stop = () => {
      clearTimeout(timer);
      reject(signal!.reason as Error);
    };
    signal?.addEventListener('abort', stop, { once: true });
  });
}

const toFunction = ({ name, description, inputSchema }: Turn['tools'][number]) => ({
  type: 'function',
  function: { name, ...(description !== undefined && { description }), parameters: inputSchema },
});

function messagesOf({ instructions, talk }: Turn): object[] {
  return [...(instructions === undefined ? [] : [{ role: 'system', content: instructions }]), ...talk.map(toMessage)];
}

function toMessage(entry: TalkEntry): object {
  if (entry.role === 'user') return { role: 'user', content: entry.text };
  if (entry.role === 'tool') return { role: 'tool', tool_call_id: entry.id, content: entry.text };
  const calls = entry.calls.map(({ id, name, input }) => ({ id, type: 'function', function: { name, arguments: JSON.stringify(input) } }));
  return { role: 'assistant', content: entry.text ?? null, ...(calls.length > 0 && { tool_calls: calls }) };
}

function readMove(text: string, url: string): Move {
  const strange = (what: string) =>
    new JexoError('JEXO_MODEL', `The model service at ${url} answered with something that is no chat completion: ${what}.`, { where: url });
  let value: unknown;
  try {
    value = JSON.parse(text);
  } catch {
    throw strange(`it is not JSON: ${text.slice(0, 80)}`);
  }
  const [choice] = isRecord(value) && Array.isArray(value.choices) ? (value.choices as unknown[]) : [];
  const message = isRecord(choice) ? choice.message : undefined;
  if (!isRecord(message)) throw strange('it has no choices[0].message');
  const calls = Array.isArray(message.tool_calls) ? (message.tool_calls as unknown[]) : [];
  return {
    ...(typeof message.content === 'string' && message.content !== '' && { text: message.content }),
    calls: calls.map((call, index) => {
      const asked = isRecord(call) ? call.function : undefined;
      if (!isRecord(asked) || typeof asked.name !== 'string') throw strange(`tool_calls[${index}] names no function`);
      return {
        id: isRecord(call) && typeof call.id === 'string' ? call.id : `call-${index + 1}`,
        name: asked.name,
        input: argumentsOf(asked.arguments, strange),
      };
    }),
  };
}

function argumentsOf(given: unknown, strange: (what: string) => JexoError): Record<string, unknown> {
  if (given === undefined || given === '') return {};
  if (isRecord(given)) return given;
  try {
    const parsed: unknown = JSON.parse(String(given));
    if (isRecord(parsed)) return parsed;
  } catch {
    // told below, in the same words
  }
  throw strange(`the arguments ${String(given).slice(0, 80)} are no JSON object`);
}
