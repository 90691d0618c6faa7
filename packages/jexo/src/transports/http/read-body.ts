import { createParser } from 'eventsource-parser';
import { JexoError } from '../../errors.js';

/** Reads a body as text, and stops when there is too much of it: what is packed may be far larger unpacked. */
export async function readText(response: Response, mostBytes: number): Promise<{ readonly text: string; readonly isWhole: boolean }> {
  if (response.body === null) return { text: '', isWhole: true };
  const decoder = new TextDecoder();
  const reader = response.body.getReader();
  let text = '';
  let bytes = 0;
  for (;;) {
    const { done, value } = await reader.read();
    if (done) return { text: text + decoder.decode(), isWhole: true };
    bytes += value.byteLength;
    if (bytes > mostBytes) {
      await reader.cancel().catch(() => undefined);
      return { text, isWhole: false };
    }
    text += decoder.decode(value, { stream: true });
  }
}

export interface EventReading {
  /** Bytes one event may have. */
  readonly mostBytes: number;
  readonly onEvent: (event: { readonly id?: string | undefined; readonly event?: string | undefined; readonly data: string }) => void;
  readonly onRetry?: (ms: number) => void;
}

/**
 * Reads a stream of events to its end.
 * @throws JexoError JEXO_TOO_LARGE for an event that is too long; whatever ends the connection
 */
export async function readEvents(
  body: ReadableStream<Uint8Array>,
  where: string,
  { mostBytes, onEvent, onRetry }: EventReading,
): Promise<void> {
  let tooLarge = false;
  /** Bytes since the last event ended. */
  let pending = 0;
  const parser = createParser({
    maxBufferSize: mostBytes,
    onEvent(event) {
      pending = 0;
      onEvent(event);
    },
    ...(onRetry && { onRetry }),
    onError: ({ type }) => (tooLarge ||= type === 'max-buffer-size-exceeded'),
  });
  const decoder = new TextDecoder();
  const reader = body.getReader();
  for (;;) {
    const { done, value } = await reader.read();
    if (done) return;
    pending += value.byteLength;
    parser.feed(decoder.decode(value, { stream: true }));
    if (!tooLarge && pending <= mostBytes) continue;
    await reader.cancel().catch(() => undefined);
    throw new JexoError('JEXO_TOO_LARGE', `${where} sent an event of more than ${mostBytes} bytes.`, { where });
  }
}

export function isStream(response: Response): boolean {
  return /^text\/event-stream\s*(?:;|$)/i.test(response.headers.get('content-type') ?? '');
}

/** Milliseconds a server wants to be left alone (RFC 9110, "Retry-After"); undefined when it does not say. */
export function retryAfterOf(headers: Headers): number | undefined {
  const value = headers.get('retry-after');
  if (value === null) return undefined;
  const seconds = Number(value);
  const ms = Number.isFinite(seconds) ? seconds * 1000 : Date.parse(value) - Date.now();
  return Number.isFinite(ms) && ms >= 0 ? ms : undefined;
}
