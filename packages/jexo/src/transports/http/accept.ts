/** True when a header that lists media types holds one of those wanted. */
export function accepts(header: string, wanted: readonly string[]): boolean {
  // The exact texts that clients send; anything else is read properly.
  if (header === 'application/json, text/event-stream') return true;
  if (header === 'application/json') return wanted.includes('application/json');
  const given = header.split(',').map((part) => part.split(';')[0]!.trim().toLowerCase());
  return given.some((type) => type === '*/*' || wanted.includes(type) || wanted.some((each) => type === `${each.split('/')[0]}/*`));
}

/** How an answer may be sent: as JSON, as a stream, or as whichever fits. */
export type Form = 'json' | 'stream' | 'either';

/** Undefined when the client takes neither form. */
export function formFor(accept: string): Form | undefined {
  const [asJson, asStream] = [accepts(accept, ['application/json']), accepts(accept, ['text/event-stream'])];
  return asJson ? (asStream ? 'either' : 'json') : asStream ? 'stream' : undefined;
}
