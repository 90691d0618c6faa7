import type { Call } from '../../offers/call.js';
import type { FunctionShape, Revive } from './shape.js';

/** Calls a function with the input's properties in the order of its parameters, and makes plain JSON of what it returns. */
export function invoke(shape: FunctionShape, run: (...args: unknown[]) => unknown, input: Record<string, unknown>, call: Call): unknown {
  const args: unknown[] = [];
  for (const parameter of shape.parameters) {
    switch (parameter.from) {
      case 'property':
        args.push(revive(input[parameter.name], parameter.revive));
        break;
      case 'rest':
        args.push(...((revive(input[parameter.name], parameter.revive) as unknown[] | undefined) ?? []));
        break;
      case 'whole-input':
        args.push(revive(input, parameter.revive));
        break;
      case 'signal':
        args.push(call.signal);
        break;
      case 'call':
        args.push(call);
    }
  }
  const value = run(...args);
  return value instanceof Promise ? value.then(toJson) : toJson(value);
}

function revive(value: unknown, how: Revive | null | undefined): unknown {
  if (how === undefined || how === null || value === undefined || value === null) return value;
  switch (how.to) {
    case 'date':
      return new Date(value as string);
    case 'url':
      return new URL(value as string);
    case 'bytes':
      return Buffer.from(value as string, 'base64');
    case 'set':
      return new Set((value as unknown[]).map((item) => revive(item, how.item)));
    case 'map':
      return new Map(Object.entries(value as object).map(([key, item]) => [key, revive(item, how.value)]));
    case 'list':
      return (value as unknown[]).map((item) => revive(item, how.item));
    case 'tuple':
      return (value as unknown[]).map((item, index) => revive(item, how.items[Math.min(index, how.items.length - 1)]));
    case 'object':
      return Object.fromEntries(Object.entries(value as object).map(([key, item]) => [key, revive(item, how.properties[key] ?? how.rest)]));
  }
}

/** Plain JSON of the values that have none of their own: dates as date-time strings, maps as objects, sets as lists, bytes as base64. */
function toJson(value: unknown): unknown {
  if (typeof value === 'bigint') return value.toString();
  if (typeof value !== 'object' || value === null) return value;
  if (value instanceof Date) return value.toISOString();
  if (value instanceof URL) return value.href;
  if (value instanceof Map) return Object.fromEntries([...value].map(([key, item]) => [String(key), toJson(item)]));
  if (value instanceof Set) return [...value].map(toJson);
  if (value instanceof Uint8Array) return Buffer.from(value.buffer, value.byteOffset, value.byteLength).toString('base64');
  if (Array.isArray(value)) return value.some(needsWork) ? value.map(toJson) : value;
  if (!Object.values(value).some(needsWork)) return value;
  return Object.fromEntries(Object.entries(value).map(([key, item]) => [key, toJson(item)]));
}

function needsWork(value: unknown): boolean {
  return typeof value === 'bigint' || (typeof value === 'object' && value !== null);
}
