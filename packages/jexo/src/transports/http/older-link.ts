import { printFault } from '../../engine/faults.js';
import { isJexoError, JexoError, messageOf } from '../../errors.js';
import { isTooDeep } from '../../protocol/depth.js';
import { encode } from '../../protocol/json-rpc.js';
import { posted, safeTap, wireTime, type Link } from '../link.js';
import type { HttpLinkOptions } from './http-link.js';
import { refused, unreachable } from './link-errors.js';
import { isStream, readEvents } from './read-body.js';
import { fetchWithin } from './same-origin.js';

/** How long a server has to open its stream and to say where messages are posted. */
const endpointMs = 10_000;

/** A link by the two-address transport of revision 2024-11-05: one stream to us, one address to post to. */
// eslint-disable-next-line max-lines-per-function -- the members of a link share its connection
export function olderLink(url: string, options: HttpLinkOptions = {}): Link {
  const { headers = {}, maxMessageBytes = 64 * 1024 * 1024, onDeviation } = options;
  const tap = options.tap && safeTap(options.tap, printFault);
  const plain = options.fetch ?? globalThis.fetch;
  // Servers of this transport know no sign-in of the protocol: what proves who calls is sent, and a refusal stays one.
  const send: typeof fetch = async (to, init = {}) => {
    const proof = await options.auth?.headers({ url, method: init.method ?? 'GET', signal: init.signal ?? reading.signal });
    return plain(to, proof === undefined ? init : { ...init, headers: { ...(init.headers as Record<string, string>), ...proof } });
  };
  const reading = new AbortController();
  const posting = new Set<AbortController>();
  let isEnding = false;
  const shownHeaders = Object.fromEntries(Object.keys(headers).map((name) => [name, '(masked)']));
  const end = () => {
    isEnding = true;
    reading.abort();
    for (const controller of posting) controller.abort();
  };

  return {
    address: url,
    // eslint-disable-next-line max-lines-per-function -- reads one stream from its begin to its end
    async start(events) {
      let named: (address: string) => void = () => {};
      let failed: (error: Error) => void = () => {};
      const endpoint = new Promise<string>((resolve, reject) => ([named, failed] = [resolve, reject]));
      endpoint.catch(() => undefined); // it may fail before it is waited for
      const timer = setTimeout(() => {
        failed(
          new JexoError('JEXO_TIMEOUT', `${url} did not say within ${endpointMs / 1000} s where messages are posted.`, { where: url }),
        );
        reading.abort();
      }, endpointMs);
      const lost = (error: unknown) => {
        if (isEnding) return;
        const told = isJexoError(error)
          ? error
          : new JexoError('JEXO_CONNECT', `The stream of ${url} has ended: ${messageOf(error)}.`, { where: url, cause: error });
        failed(told);
        events.closed(told);
      };
      const take = (data: string) => {
        let message: unknown;
        try {
          if (isTooDeep(data)) throw new Error('it nests too deep');
          message = JSON.parse(data);
        } catch (error) {
          tap?.({ at: wireTime(), way: 'received', bytes: data.length, message: data.slice(0, 10_000), note: 'stream, no message' });
          return onDeviation?.({ kind: 'headers', account: `An event is passed over: ${messageOf(error)}: ${data.slice(0, 200)}` });
        }
        tap?.({ at: wireTime(), way: 'received', bytes: new TextEncoder().encode(data).length, message, note: 'stream' });
        events.receive(message);
      };
      try {
        const init = { headers: { ...headers, accept: 'text/event-stream' }, signal: reading.signal };
        const response = await fetchWithin(send, url, init).catch((error: unknown) => {
          throw isJexoError(error) ? error : unreachable(url, error);
        });
        if (!response.ok) throw await refused(url, response, false);
        if (!isStream(response) || response.body === null) {
          await response.body?.cancel();
          throw new JexoError('JEXO_HTTP_STATUS', `${url} opens no stream of events (HTTP ${response.status}).`, {
            where: url,
            data: { status: response.status },
          });
        }
        readEvents(response.body, url, {
          mostBytes: maxMessageBytes,
          onEvent: ({ event, data }) => (event === 'endpoint' ? named(data) : take(data)),
        }).then(() => lost(new Error('the server closed it')), lost);
        const address = new URL(await endpoint, url);
        if (address.origin !== new URL(url).origin)
          throw new JexoError('JEXO_NOT_PROTOCOL', `${url} wants messages posted to another host, ${address.origin}; that is refused.`, {
            where: url,
          });
        return {
          send(message) {
            const text = encode(message);
            tap?.(posted(message, text, shownHeaders));
            const fail = (error: JexoError) => 'method' in message && 'id' in message && events.failed(message.id, error);
            const controller = new AbortController();
            posting.add(controller);
            const post = async () => {
              const answer = await fetchWithin(send, address.href, {
                method: 'POST',
                headers: { ...headers, 'content-type': 'application/json' },
                body: text,
                signal: controller.signal,
              });
              if (!answer.ok) return fail(await refused(address.href, answer, false));
              await answer.body?.cancel();
              return undefined;
            };
            post()
              .catch((error: unknown) => !isEnding && fail(isJexoError(error) ? error : unreachable(address.href, error)))
              .finally(() => posting.delete(controller));
          },
        };
      } catch (error) {
        end();
        throw error;
      } finally {
        clearTimeout(timer);
      }
    },
    async close() {
      end();
    },
  };
}
