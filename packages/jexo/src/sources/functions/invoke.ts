import { answer, type Answer } from '../../offers/answer.js';
import type { Call } from '../../offers/call.js';
import { revive } from './revive.js';
import type { FunctionShape } from './shape.js';
import { base64, collectBytes, isStream, toJson } from './to-json.js';

const none = {};

/** Calls a function with the input's properties in the order of its parameters, and makes an answer of what it gives. */
export function invoke(shape: FunctionShape, run: (...args: unknown[]) => unknown, input: Record<string, unknown>, call: Call): unknown {
  const named = shape.revives ?? none;
  const args: unknown[] = [];
  for (const parameter of shape.parameters) {
    switch (parameter.from) {
      case 'property':
        args.push(revive(input[parameter.name], parameter.revive, named));
        break;
      case 'rest':
        args.push(...((revive(input[parameter.name], parameter.revive, named) as unknown[] | undefined) ?? []));
        break;
      case 'whole-input':
        args.push(revive(input, parameter.revive, named));
        break;
      case 'signal':
        args.push(call.signal);
        break;
      case 'call':
        args.push(call);
        break;
      case 'nothing':
        args.push(undefined);
    }
  }
  // What was not given need not be passed: some functions count their arguments.
  while (args.length > 0 && args.at(-1) === undefined) args.pop();
  const value = run(...args);
  return value instanceof Promise ? value.then((settled) => answerOf(shape, settled, call)) : answerOf(shape, value, call);
}

function answerOf(shape: FunctionShape, value: unknown, call: Call): unknown {
  switch (shape.returns.as) {
    case 'media':
      return value === undefined || value === null ? answer({}) : toMedia(shape, value, shape.returns.mimeType);
    case 'items':
      return collect(value as AsyncIterable<unknown>, call);
    case 'object':
      return toJson(value);
    case 'result':
      return then(toJson(value), toResultAnswer);
    case 'nothing':
      if (shape.kind !== 'tool') return value instanceof Uint8Array ? value : isAsyncItems(value) ? collect(value, call) : toJson(value);
      if (value === undefined) return answer({ content: [{ type: 'text', text: 'Done.' }] });
      return isAsyncItems(value) ? collect(value, call) : keepsItsForm(value) ? value : toJson(value);
  }
}

/** A text is read best as it is; clients that want structure find it under `result`. */
function toResultAnswer(json: unknown): unknown {
  return typeof json === 'string'
    ? answer({ content: [{ type: 'text', text: json }], structuredContent: { result: json } })
    : { result: json ?? null };
}

function then(value: unknown, use: (settled: unknown) => unknown): unknown {
  return value instanceof Promise ? value.then(use) : use(value);
}

/** What answer() made has a form of its own already. */
function keepsItsForm(value: unknown): boolean {
  return typeof value === 'object' && value !== null && Array.isArray((value as { content?: unknown }).content);
}

function isAsyncItems(value: unknown): value is AsyncIterable<unknown> {
  return typeof value === 'object' && value !== null && Symbol.asyncIterator in value && !isStream(value);
}

/** Items that are told as they come; a caller who cancels stops the one who makes them. */
async function collect(items: AsyncIterable<unknown>, call: Call): Promise<unknown> {
  const result: unknown[] = [];
  for await (const item of items) {
    call.signal.throwIfAborted();
    const json = (await toJson(item)) ?? null;
    result.push(json);
    call.progress(result.length, undefined, preview(json));
  }
  return { result };
}

function preview(json: unknown): string {
  const text = typeof json === 'string' ? json : JSON.stringify(json);
  return text.length > 200 ? `${text.slice(0, 197)}...` : text;
}

async function toMedia(shape: FunctionShape, value: unknown, declared: string | undefined): Promise<Answer> {
  const { bytes, own, name } = await bytesOf(value);
  const mimeType = declared ?? own ?? 'application/octet-stream';
  const data = base64(bytes);
  if (mimeType.startsWith('image/')) return answer({ content: [{ type: 'image', data, mimeType }] });
  if (mimeType.startsWith('audio/')) return answer({ content: [{ type: 'audio', data, mimeType }] });
  const uri = `answer:${shape.name}/${encodeURIComponent(name ?? 'file')}`;
  const isText = /^text\/|[/+](?:json|xml|yaml)$/.test(mimeType);
  const contents = isText ? { uri, mimeType, text: Buffer.from(bytes).toString() } : { uri, mimeType, blob: data };
  return answer({ content: [{ type: 'resource', resource: contents }] });
}

async function bytesOf(value: unknown): Promise<{ bytes: Uint8Array; own?: string; name?: string }> {
  if (value instanceof Blob)
    return {
      bytes: new Uint8Array(await value.arrayBuffer()),
      ...(value.type !== '' && { own: value.type }),
      ...('name' in value && { name: String(value.name) }),
    };
  if (value instanceof ArrayBuffer) return { bytes: new Uint8Array(value) };
  if (value instanceof Uint8Array) return { bytes: value };
  if (typeof value === 'object' && value !== null && isStream(value)) return { bytes: await collectBytes(value) };
  throw new Error('The function gave something other than the bytes it promised.');
}
