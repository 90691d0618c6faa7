import { pause } from '../engine/pause.js';
import { deadline } from '../engine/deadline.js';
import { JexoError, messageOf } from '../errors.js';
import { isRecord } from '../protocol/is-record.js';
import { createParser } from 'eventsource-parser';
import { functionSet, type FunctionSet } from './function-set.js';
import type { Model, Move, TalkEntry, TalkImage, ToolCall, Turn, Usage } from './model.js';

/** How a model service is reached. */
export interface ChatCompletionsOptions {
  /** Where the service is, up to and without `/chat/completions`, as `https://models.example/v1`; a query stays where it is. */
  readonly baseUrl: string;
  /** The model's name, as the service knows it. */
  readonly model: string;
  /** Sent as `Authorization: Bearer`. */
  readonly key?: string;
  /** Milliseconds without a sign of life. Default 60,000. */
  readonly timeoutMs?: number;
  /** Times a busy service is asked again. Default 3. */
  readonly maxRetries?: number;
  /** How much chance is in the answers. Default: the service's own. */
  readonly temperature?: number;
  /** True asks for the answer in parts, as it is written. Default false. */
  readonly stream?: boolean;
  /** Called with each part of the text as it comes, if it is streamed. */
  readonly onText?: (part: string) => void;
  /** True for a model that takes images. Default false. */
  readonly images?: boolean;
}

/** The longest a service may have us wait between two tries, in milliseconds. */
const longestPause = 30_000;
/** Characters an answer may have. */
const mostCharacters = 16 * 1024 * 1024;

/**
 * A driver to any service that speaks the widespread chat-completions JSON: `POST {baseUrl}/chat/completions` with `messages`
 * and `tools`, the calls in `choices[0].message.tool_calls`, whole or streamed in parts.
 *
 * A service that is busy (408, 429, 5xx) is asked again after the time in its `Retry-After`, or with growing pauses.
 *
 * @throws JexoError JEXO_MODEL from `next`, when the service refuses, does not answer or answers with something else; `data.tooLong` is true
 * when the conversation is longer than the model reads
 * @example
 * const model = chatCompletions({ baseUrl: 'http://127.0.0.1:8080/v1', model: 'small', key: process.env.JEXO_MODEL_KEY });
 */
export function chatCompletions(options: ChatCompletionsOptions): Model {
  const { baseUrl, model, key, timeoutMs = 60_000, maxRetries = 3, temperature, stream = false, images = false } = options;
  const url = addressOf(baseUrl);
  return {
    name: model,
    isStandIn: false,
    takesImages: images,
    async next(turn, signal) {
      const set = functionSet(turn.tools);
      const onText = turn.onText ?? options.onText;
      const body = JSON.stringify({
        model,
        ...(temperature !== undefined && { temperature }),
        ...(stream && { stream: true, stream_options: { include_usage: true } }),
        messages: messagesOf(turn, set),
        ...(turn.tools.length > 0 && { tools: set.functions, tool_choice: 'auto' }),
      });
      for (let attempt = 0; ; attempt++) {
        const limit = deadline(timeoutMs, signal);
        try {
          const response = await post(url, body, key, limit, signal);
          if (response.ok) {
            const strange = (what: string) => strangeAnswer(url, what);
            const isStream = /^text\/event-stream/i.test(response.headers.get('content-type') ?? '');
            const message = isStream ? await readStream(response, strange, onText) : readWhole(await readText(response, strange), strange);
            return toMove(message, set, strange);
          }
          const isBusy = response.status === 408 || response.status === 429 || response.status >= 500;
          if (!isBusy || attempt >= maxRetries)
            throw refusal(url, response.status, await readText(response, (what) => strangeAnswer(url, what)));
          await response.body?.cancel();
          await pause(pauseOf(response.headers.get('retry-after'), attempt), signal);
        } catch (error) {
          signal?.throwIfAborted();
          if (error instanceof JexoError) throw error;
          throw unusable(url, limit.isOver ? 'it did not answer in time' : messageOf((error as { cause?: unknown }).cause ?? error), error);
        } finally {
          limit.clear();
        }
      }
    },
  };
}

function addressOf(baseUrl: string): string {
  if (!URL.canParse(baseUrl) || !/^https?:/i.test(baseUrl))
    throw new JexoError('JEXO_USAGE', `${JSON.stringify(baseUrl)} is not the address of a model service.`, {
      next: 'Give its base URL, as http://127.0.0.1:8080/v1',
    });
  const url = new URL(baseUrl);
  url.pathname = `${url.pathname.replace(/\/+$/, '').replace(/\/chat\/completions$/, '')}/chat/completions`;
  return url.href;
}

async function post(
  url: string,
  body: string,
  key: string | undefined,
  limit: { readonly signal: AbortSignal },
  own: AbortSignal | undefined,
): Promise<Response> {
  own?.throwIfAborted();
  const headers = { 'content-type': 'application/json', ...(key !== undefined && key !== '' && { authorization: `Bearer ${key}` }) };
  // The key and the talk are for this address and no other.
  const response = await fetch(url, { method: 'POST', headers, body, signal: limit.signal, redirect: 'manual' });
  if (response.type === 'opaqueredirect' || (response.status >= 300 && response.status < 400)) {
    await response.body?.cancel();
    throw unusable(url, `it redirects to ${response.headers.get('location') ?? 'another address'}; give the address it leads to`);
  }
  return response;
}

const unusable = (url: string, why: string, cause?: unknown) =>
  new JexoError('JEXO_MODEL', `The model service at ${url} cannot be used: ${why}.`, { where: url, cause });
const strangeAnswer = (url: string, what: string) =>
  new JexoError('JEXO_MODEL', `The model service at ${url} answered with something that is no chat completion: ${what}.`, { where: url });

async function readText(response: Response, strange: (what: string) => JexoError): Promise<string> {
  let text = '';
  const decoder = new TextDecoder();
  const reader = response.body?.getReader();
  for (let part = await reader?.read(); part !== undefined && !part.done; part = await reader!.read()) {
    text += decoder.decode(part.value, { stream: true });
    if (text.length <= mostCharacters) continue;
    await reader!.cancel().catch(() => undefined);
    throw strange(`it has more than ${mostCharacters} characters`);
  }
  return text + decoder.decode();
}

function refusal(url: string, status: number, text: string): JexoError {
  const said = /"message"\s*:\s*"((?:[^"\\]|\\.)*)"/.exec(text)?.[1] ?? (/^\s*</.test(text) ? '' : text.slice(0, 200));
  const next: Record<number, string> = {
    401: 'Put the right key into JEXO_MODEL_KEY.',
    403: 'This key may not use the model; ask the operator of the service.',
    404: 'Check the base URL, which mostly ends in /v1, and the name of the model.',
    429: 'The service is busy, or the key is used up. Try again later.',
  };
  // Services differ in the code they give, and agree on these words.
  const tooLong =
    status === 413 ||
    (status === 400 &&
      /context_length|context (?:length|window|size)|too many (?:input )?tokens|prompt is too long|maximum context/i.test(text));
  return new JexoError('JEXO_MODEL', `The model service at ${url} answered with HTTP ${status}${said === '' ? '' : `: ${said}`}`, {
    where: url,
    ...(next[status] !== undefined && { next: next[status] }),
    data: { status, ...(tooLong && { tooLong }) },
  });
}

/** As the service wants it in `Retry-After`, in seconds or as a date; otherwise twice as long each time. */
function pauseOf(retryAfter: string | null, attempt: number): number {
  const wanted = retryAfter === null ? NaN : /^\d+$/.test(retryAfter) ? Number(retryAfter) * 1000 : Date.parse(retryAfter) - Date.now();
  return Math.min(longestPause, Number.isNaN(wanted) ? 500 * 2 ** attempt : Math.max(0, wanted));
}

function messagesOf({ instructions, talk }: Turn, set: FunctionSet): object[] {
  const messages: object[] = instructions === undefined ? [] : [{ role: 'system', content: instructions }];
  // Results are texts to these services: their images follow the last of a row of results.
  let waiting: TalkImage[] = [];
  const showImages = () => {
    if (waiting.length > 0)
      messages.push({ role: 'user', content: [{ type: 'text', text: 'Images of the results above:' }, ...waiting.map(imagePart)] });
    waiting = [];
  };
  for (const entry of talk) {
    if (entry.role !== 'tool') showImages();
    messages.push(toMessage(entry, set));
    if (entry.role === 'tool') waiting.push(...(entry.images ?? []));
  }
  showImages();
  return messages;
}

const imagePart = ({ mimeType, data }: TalkImage) => ({ type: 'image_url', image_url: { url: `data:${mimeType};base64,${data}` } });

function toMessage(entry: TalkEntry, set: FunctionSet): object {
  if (entry.role === 'user') {
    const { text, images = [] } = entry;
    return { role: 'user', content: images.length === 0 ? text : [{ type: 'text', text }, ...images.map(imagePart)] };
  }
  if (entry.role === 'tool') return { role: 'tool', tool_call_id: entry.id, content: entry.text };
  const calls = entry.calls.map((call) => {
    const { name, arguments: input } = set.toFunction(call);
    return { id: call.id, type: 'function', function: { name, arguments: JSON.stringify(input) } };
  });
  return { role: 'assistant', content: entry.text ?? null, ...(calls.length > 0 && { tool_calls: calls }) };
}

/** A message as the service gives it, whole or put together from parts. */
interface Message {
  readonly content: unknown;
  readonly calls: readonly unknown[];
  readonly finish: unknown;
  readonly refusal?: unknown;
  readonly usage?: unknown;
}

function readWhole(text: string, strange: (what: string) => JexoError): Message {
  let value: unknown;
  try {
    value = JSON.parse(text);
  } catch {
    throw strange(`it is not JSON: ${text.slice(0, 80)}`);
  }
  if (isRecord(value) && value.error !== undefined && value.error !== null && !Array.isArray(value.choices))
    throw strange(`an error: ${wordsOf(value.error)}`);
  const [choice] = isRecord(value) && Array.isArray(value.choices) ? (value.choices as unknown[]) : [];
  const message = isRecord(choice) ? choice.message : undefined;
  if (!isRecord(message)) throw strange('it has no choices[0].message');
  return {
    content: message.content,
    refusal: message.refusal,
    calls: Array.isArray(message.tool_calls) ? (message.tool_calls as unknown[]) : [],
    finish: (choice as Record<string, unknown>).finish_reason,
    usage: (value as Record<string, unknown>).usage,
  };
}

const wordsOf = (error: unknown): string =>
  isRecord(error) && typeof error.message === 'string'
    ? error.message
    : typeof error === 'string'
      ? error
      : JSON.stringify(error).slice(0, 200);

/** Puts a streamed answer together: text in pieces, and each call's arguments in pieces by its index. */
async function readStream(response: Response, strange: (what: string) => JexoError, onText?: (part: string) => void): Promise<Message> {
  let content = '';
  let refused = '';
  let finish: unknown;
  let usage: unknown;
  let failure: JexoError | undefined;
  let isDone = false;
  const calls: { id?: string; name: string; arguments: string }[] = [];
  const take = (data: string) => {
    if (data === '[DONE]') return void (isDone = true);
    let chunk: unknown;
    try {
      chunk = JSON.parse(data);
    } catch {
      return void (failure ??= strange(`a part is not JSON: ${data.slice(0, 80)}`));
    }
    if (!isRecord(chunk)) return;
    if (chunk.error !== undefined && chunk.error !== null) return void (failure ??= strange(`an error: ${wordsOf(chunk.error)}`));
    usage = chunk.usage ?? usage;
    const [choice] = Array.isArray(chunk.choices) ? (chunk.choices as unknown[]) : [];
    if (!isRecord(choice)) return;
    finish = choice.finish_reason ?? finish;
    const delta = isRecord(choice.delta) ? choice.delta : {};
    const part = textOf(delta.content);
    content += part;
    if (part !== '') onText?.(part);
    if (typeof delta.refusal === 'string') refused += delta.refusal;
    for (const [place, each] of (Array.isArray(delta.tool_calls) ? (delta.tool_calls as unknown[]) : []).entries()) {
      if (!isRecord(each)) continue;
      const index = typeof each.index === 'number' && each.index >= 0 && each.index < 1000 ? each.index : place;
      const call = (calls[index] ??= { name: '', arguments: '' });
      if (typeof each.id === 'string') call.id = each.id;
      const asked = isRecord(each.function) ? each.function : {};
      if (typeof asked.name === 'string') call.name += asked.name;
      if (typeof asked.arguments === 'string') call.arguments += asked.arguments;
    }
  };
  const parser = createParser({ onEvent: ({ data }) => take(data), maxBufferSize: mostCharacters });
  const decoder = new TextDecoder();
  const reader = response.body!.getReader();
  let characters = 0;
  while (!isDone && failure === undefined) {
    const { done, value } = await reader.read();
    if (done) break;
    const text = decoder.decode(value, { stream: true });
    characters += text.length;
    if (characters > mostCharacters) failure = strange(`it has more than ${mostCharacters} characters`);
    else parser.feed(text);
  }
  await reader.cancel().catch(() => undefined);
  if (failure !== undefined) throw failure;
  if (!isDone && finish === undefined) throw strange('it ended in the middle');
  const refusal = refused === '' ? undefined : refused;
  return { content, finish, refusal, usage, calls: calls.filter(Boolean).map(({ id, ...asked }) => ({ id, function: asked })) };
}

/** The text of a content that is a text, or a list of parts. */
function textOf(content: unknown): string {
  if (typeof content === 'string') return content;
  if (!Array.isArray(content)) return '';
  return (content as unknown[]).map((part) => (isRecord(part) && typeof part.text === 'string' ? part.text : '')).join('');
}

function toMove(
  { content, calls, finish, refusal: refused, usage }: Message,
  set: FunctionSet,
  strange: (what: string) => JexoError,
): Move {
  const isCut = finish === 'length';
  const said = textOf(content) || (typeof refused === 'string' ? refused : '');
  // What was cut short is no whole call: its arguments end anywhere.
  if (isCut && calls.length > 0) throw strange('it was cut short in the middle of a call (finish_reason: length); allow longer answers');
  const text = isCut ? `${said} […cut short]` : said;
  const isRefused = (typeof refused === 'string' && refused !== '') || finish === 'content_filter';
  return {
    ...(text !== '' && { text }),
    ...(isRefused && { refused: true }),
    ...usageOf(usage),
    calls: calls.map((call, index): ToolCall => {
      const asked = isRecord(call) ? call.function : undefined;
      if (!isRecord(asked) || typeof asked.name !== 'string' || asked.name === '') throw strange(`tool_calls[${index}] names no function`);
      const { input: written, broken } = argumentsOf(asked.arguments);
      const { name, input } = set.toTool({ name: asked.name, arguments: written });
      return {
        id: isRecord(call) && typeof call.id === 'string' && call.id !== '' ? call.id : `call-${index + 1}`,
        name,
        input,
        ...(broken !== undefined && { broken }),
      };
    }),
  };
}

function usageOf(usage: unknown): { readonly usage?: Usage } {
  if (!isRecord(usage) || typeof usage.prompt_tokens !== 'number' || typeof usage.completion_tokens !== 'number') return {};
  return { usage: { inputTokens: usage.prompt_tokens, outputTokens: usage.completion_tokens } };
}

function argumentsOf(given: unknown): Pick<ToolCall, 'input' | 'broken'> {
  if (given === undefined || given === null || given === '') return { input: {} };
  if (isRecord(given)) return { input: given };
  try {
    const parsed: unknown = JSON.parse(String(given));
    if (isRecord(parsed)) return { input: parsed };
  } catch {
    // told below, in the same words
  }
  return { input: {}, broken: `The arguments are not a JSON object: ${String(given).slice(0, 200)}. Write them again as one JSON object.` };
}
