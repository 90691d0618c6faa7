/**
 * Plain JSON of what a function gave (docs/functions.md, "Values that are not JSON"): dates as date-time strings, maps as
 * objects, sets and other iterables as lists, bytes as base64, bigints as decimal strings, errors with their causes.
 *
 * @returns a promise only when a part of it has to be awaited: a Blob, a stream, a promise in a field
 * @throws Error for what JSON cannot carry and a caller should hear of: NaN, infinities, cycles
 */
export function toJson(value: unknown): unknown {
  const pending: Promise<void>[] = [];
  const json = convert(value, '', [], pending, (settled) => (root = settled));
  let root = json;
  return pending.length === 0 ? json : Promise.all(pending).then(() => root);
}

type Put = (settled: unknown) => void;

function convert(value: unknown, path: string, above: readonly object[], pending: Promise<void>[], put: Put): unknown {
  if (typeof value === 'number' && !Number.isFinite(value))
    throw new Error(
      `The answer${path === '' ? '' : ` at ${path.replace(/^\./, '')}`} is ${value}, which is no number to work with: the input has most likely no such result.`,
    );
  if (typeof value === 'bigint') return value.toString();
  if (typeof value === 'function' || typeof value === 'symbol') return undefined;
  if (typeof value !== 'object' || value === null) return value;
  if (value instanceof Date) return Number.isNaN(value.getTime()) ? invalidDate(path) : value.toISOString();
  if (value instanceof URL) return value.href;
  if (value instanceof RegExp) return value.source;
  if (value instanceof ArrayBuffer) return base64(new Uint8Array(value));
  if (value instanceof Uint8Array) return base64(value);
  if (ArrayBuffer.isView(value) && !(value instanceof DataView))
    return Array.from(value as unknown as Iterable<unknown>, (item) => (typeof item === 'bigint' ? String(item) : item));
  if (above.includes(value)) throw new Error(`The answer contains itself at ${path.replace(/^\./, '')}, which JSON cannot carry.`);
  const inside = [...above, value];
  const part = (item: unknown, step: string, set: Put) => convert(item, path + step, inside, pending, set);
  const later = (promise: Promise<unknown>): undefined => {
    pending.push(
      promise.then(async (settled) => {
        const more: Promise<void>[] = [];
        put(convert(settled, path, inside, more, put));
        await Promise.all(more);
      }),
    );
    return undefined;
  };
  if (value instanceof Promise) return later(value);
  if (value instanceof Blob) return later(blobToJson(value));
  if (isStream(value)) return later(collectBytes(value));
  if (value instanceof Error) return errorToJson(value);
  if (value instanceof Map)
    return record(
      [...value].map(([key, item]) => [String(key), item]),
      part,
    );
  if (Array.isArray(value)) return list(value, part);
  const { toJSON } = value as { toJSON?: unknown };
  if (typeof toJSON === 'function') return convert(toJSON.call(value), path, inside, pending, put);
  if (Symbol.iterator in value) return list([...(value as Iterable<unknown>)], part);
  return record(Object.entries(value), part);
}

type Part = (item: unknown, step: string, set: Put) => unknown;

function list(items: readonly unknown[], part: Part): unknown[] {
  const made: unknown[] = [];
  items.forEach((item, index) => {
    made[index] = part(item, `[${index}]`, (settled) => (made[index] = settled)) ?? null;
  });
  return made;
}

function record(entries: readonly (readonly [string, unknown])[], part: Part): Record<string, unknown> {
  const made: Record<string, unknown> = {};
  for (const [key, item] of entries) {
    const set = (json: unknown) => {
      // A key that names a prototype is a key like any other.
      if (json !== undefined) Object.defineProperty(made, key, { value: json, enumerable: true, configurable: true, writable: true });
    };
    if (item instanceof Promise || item instanceof Blob) set(null); // keeps its place in the order
    set(part(item, `.${key}`, set));
  }
  return made;
}

/** An error as a value: what it is called, what it says, and what caused it. */
export function errorToJson(error: Error): Record<string, unknown> {
  return {
    name: error.name,
    message: error.message,
    ...(error.cause instanceof Error && { cause: errorToJson(error.cause) }),
    ...(typeof error.cause === 'string' && { cause: error.cause }),
  };
}

function invalidDate(path: string): never {
  throw new Error(`The answer${path === '' ? '' : ` at ${path.replace(/^\./, '')}`} is a date that does not exist.`);
}

async function blobToJson(blob: Blob): Promise<object> {
  const data = base64(new Uint8Array(await blob.arrayBuffer()));
  return { data, ...(blob.type !== '' && { mimeType: blob.type }), ...('name' in blob && { name: blob.name }) };
}

export function base64(bytes: Uint8Array): string {
  return Buffer.from(bytes.buffer, bytes.byteOffset, bytes.byteLength).toString('base64');
}

/** A stream of bytes, of the web or of Node; async iterables of other things are no values but work, see invoke. */
export function isStream(value: object): value is AsyncIterable<Uint8Array | string> {
  return value instanceof ReadableStream || (Symbol.asyncIterator in value && typeof (value as { pipe?: unknown }).pipe === 'function');
}

export async function collectBytes(stream: AsyncIterable<Uint8Array | string>): Promise<Uint8Array> {
  const chunks: Uint8Array[] = [];
  for await (const chunk of stream) chunks.push(typeof chunk === 'string' ? Buffer.from(chunk) : chunk);
  return Buffer.concat(chunks);
}
