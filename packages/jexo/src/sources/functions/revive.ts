import { Readable } from 'node:stream';
import type { Revive } from './shape.js';

type Named = Readonly<Record<string, Revive>>;

/** Makes of a JSON value the value a function takes. What the schema has let pass fits; nothing is checked again. */
export function revive(value: unknown, how: Revive | null | undefined, named: Named): unknown {
  if (how === undefined || how === null || value === undefined || value === null) return value;
  switch (how.to) {
    case 'date':
      return new Date(value as string);
    case 'url':
      return new URL(value as string);
    case 'regexp':
      return new RegExp(value as string);
    case 'bigint':
      return BigInt(value as string);
    case 'bytes':
      return bytes(value);
    case 'array-buffer':
      return Uint8Array.from(bytes(value)).buffer;
    case 'stream':
      return Readable.from([bytes(value)]);
    case 'blob': {
      const { data, mimeType } = value as { data: string; mimeType?: string };
      return new Blob([bytes(data)], { type: mimeType ?? '' });
    }
    case 'file': {
      const { data, mimeType, name } = value as { data: string; mimeType?: string; name: string };
      return new File([bytes(data)], name, { type: mimeType ?? '' });
    }
    case 'numbers':
      return (globalThis as unknown as Record<string, { from(list: unknown): unknown }>)[how.of]!.from(value);
    case 'set':
      return new Set((value as unknown[]).map((item) => revive(item, how.item, named)));
    case 'map':
      return new Map(
        Object.entries(value as object).map(([key, item]) => [how.numberKeys ? Number(key) : key, revive(item, how.value, named)]),
      );
    case 'list':
      return (value as unknown[]).map((item) => revive(item, how.item, named));
    case 'async-list':
      return Readable.from((value as unknown[]).map((item) => revive(item, how.item, named)));
    case 'tuple':
      return (value as unknown[]).map((item, index) => revive(item, how.items[Math.min(index, how.items.length - 1)], named));
    case 'object':
      return Object.fromEntries(
        Object.entries(value as object).map(([key, item]) => [key, revive(item, how.properties[key] ?? how.rest, named)]),
      );
    case 'case':
      return revive(value, how.cases[String((value as Record<string, unknown>)[how.property])], named);
    case 'kind': {
      const kind = Array.isArray(value) ? 'array' : (typeof value as 'string' | 'number' | 'boolean' | 'object');
      return revive(value, how.kinds[kind], named);
    }
    case 'ref':
      return revive(value, named[how.name], named);
  }
}

function bytes(base64: unknown): Buffer<ArrayBuffer> {
  return Buffer.from(base64 as string, 'base64') as Buffer<ArrayBuffer>;
}
