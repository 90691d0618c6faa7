/** How a payload is read. */
export type PayloadType = 'json' | 'number' | 'text' | 'bytes';

/**
 * The value of a payload. Without a type it is JSON if it can be, a text if it is one, and bytes (as base64) otherwise.
 * @throws Error for a payload that is not of the type
 */
export function readPayload(payload: Uint8Array, type: PayloadType | undefined): unknown {
  if (type === 'bytes') return base64(payload);
  let text: string;
  try {
    text = new TextDecoder('utf-8', { fatal: true }).decode(payload);
  } catch {
    if (type === undefined) return base64(payload);
    throw new Error(`the payload is not text in UTF-8 (${payload.length} bytes)`);
  }
  if (type === 'text') return text;
  if (type === 'number') {
    const value = Number(text.trim());
    if (text.trim() === '' || !Number.isFinite(value)) throw new Error(`the payload is not a number: ${text.slice(0, 40)}`);
    return value;
  }
  try {
    return JSON.parse(text) as unknown;
  } catch {
    if (type === undefined) return text;
    throw new Error(`the payload is not JSON: ${text.slice(0, 40)}`);
  }
}

const base64 = (payload: Uint8Array) => Buffer.from(payload.buffer, payload.byteOffset, payload.byteLength).toString('base64');

/** A field of a value by its path: `reading.kg`, `0.value`; undefined when it is not there. */
export function pluck(value: unknown, field: string): unknown {
  let found = value;
  for (const part of field.split('.')) {
    if (typeof found !== 'object' || found === null || !Object.hasOwn(found, part)) return undefined;
    found = (found as Record<string, unknown>)[part];
  }
  return found;
}

/** True when a topic matches a filter: `+` stands for one level, `#` for all that follow (MQTT 5, section 4.7). */
export function matchesTopic(filter: string, topic: string): boolean {
  const wanted = filter.split('/');
  const parts = topic.split('/');
  // Topics of the broker itself are not meant by a leading wildcard.
  if (topic.startsWith('$') && /^[+#]/.test(filter)) return false;
  for (const [at, part] of wanted.entries()) {
    if (part === '#') return true;
    if (parts[at] === undefined || (part !== '+' && part !== parts[at])) return false;
  }
  return wanted.length === parts.length;
}

/** What is wrong with a topic filter; undefined when nothing is. */
export function faultOfFilter(filter: string): string | undefined {
  if (filter === '' || filter.includes('\u0000')) return 'it is empty';
  const parts = filter.split('/');
  for (const [at, part] of parts.entries()) {
    if (part.includes('#') && (part !== '#' || at < parts.length - 1)) return '# may only be the last level, alone';
    if (part.includes('+') && part !== '+') return '+ stands for a whole level';
  }
  return undefined;
}
