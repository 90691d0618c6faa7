import { createParser } from 'eventsource-parser';
import { JexoError, messageOf } from '../../errors.js';
import { encode } from '../../protocol/json-rpc.js';
import { wireTime, type Link } from '../link.js';
import type { HttpLinkOptions } from './http-link.js';

/** A link by the two-address transport of revision 2024-11-05: one stream to us, one address to post to. */
export function olderLink(url: string, { headers = {}, tap, fetch: given }: HttpLinkOptions = {}): Link {
  const send = given ?? globalThis.fetch;
  const ending = new AbortController();
  return {
    address: url,
    async start(events) {
      const response = await send(url, { headers: { ...headers, accept: 'text/event-stream' }, signal: ending.signal });
      const isStream = response.headers.get('content-type')?.startsWith('text/event-stream') ?? false;
      if (!response.ok || !isStream || response.body === null) {
        ending.abort();
        throw new JexoError('JEXO_HTTP_STATUS', `${url} opens no stream of events (HTTP ${response.status}).`, {
          where: url,
          data: { status: response.status },
        });
      }
      let named: (address: string) => void = () => {};
      let failed: (error: Error) => void = () => {};
      const endpoint = new Promise<string>((resolve, reject) => ([named, failed] = [resolve, reject]));
      const parser = createParser({
        onEvent({ event, data }) {
          if (event === 'endpoint') return named(data);
          let message: unknown;
          try {
            message = JSON.parse(data);
          } catch {
            return events.closed(
              new JexoError('JEXO_NOT_PROTOCOL', `${url} sent something that is not a protocol message: ${data.slice(0, 200)}`, {
                where: url,
              }),
            );
          }
          tap?.({ at: wireTime(), way: 'received', bytes: new TextEncoder().encode(data).length, message, note: 'stream' });
          events.receive(message);
        },
      });
      const read = async (body: ReadableStream<Uint8Array>) => {
        const reader = body.pipeThrough(new TextDecoderStream() as unknown as ReadableWritablePair<string, Uint8Array>).getReader();
        for (;;) {
          const { done, value } = await reader.read();
          if (done) return;
          parser.feed(value);
        }
      };
      read(response.body).then(
        () => lost(new Error('the server closed it')),
        (error: unknown) => lost(error),
      );
      const lost = (error: unknown) => {
        if (ending.signal.aborted) return;
        const lostError = new JexoError('JEXO_CONNECT', `The stream of ${url} has ended: ${messageOf(error)}.`, {
          where: url,
          cause: error,
        });
        failed(lostError);
        events.closed(lostError);
      };
      const address = new URL(await endpoint, url);
      if (address.origin !== new URL(url).origin) {
        ending.abort();
        throw new JexoError('JEXO_NOT_PROTOCOL', `${url} wants messages posted to another host, ${address.origin}; that is refused.`, {
          where: url,
        });
      }
      return {
        send(message) {
          const text = encode(message);
          tap?.({ at: wireTime(), way: 'sent', bytes: new TextEncoder().encode(text).length, message, note: 'POST' });
          const fail = (why: string) =>
            'method' in message &&
            'id' in message &&
            events.failed(
              message.id,
              new JexoError('JEXO_CONNECT', `${address.href} did not take ${message.method}: ${why}.`, { where: url }),
            );
          send(address, {
            method: 'POST',
            headers: { ...headers, 'content-type': 'application/json' },
            body: text,
            signal: ending.signal,
          }).then(
            async (answer) => {
              await answer.body?.cancel();
              if (!answer.ok) fail(`HTTP ${answer.status}`);
            },
            (error: unknown) => !ending.signal.aborted && fail(messageOf(error)),
          );
        },
      };
    },
    async close() {
      ending.abort();
    },
  };
}
