import type { Client, ClientOptions } from '../client/connect-link.js';
import { messageOf } from '../errors.js';
import type { OpenUpstream } from './legs.js';

/** The connection by which a bridge knows what the server behind offers. */
export interface MainConnection {
  /** The open connection. @throws what opening it throws; it is tried again by itself then */
  client(signal?: AbortSignal): Promise<Client>;
  /** Why it is down; undefined while it is up, or was never wanted. */
  readonly fault: string | undefined;
  /** Somebody could not reach the server: it is pinged, and taken for gone when it does not answer. */
  suspect(): void;
  /** Ends it without an end: the next use opens it again. */
  rest(): Promise<void>;
  close(): Promise<void>;
}

const firstPauseMs = 500;
const longestPauseMs = 30_000;
const pingEveryMs = 15_000;
const patienceMs = 3000;

/** @param changed called when what is offered may have changed: a list, the connection itself */
// eslint-disable-next-line max-lines-per-function -- the steps share the connection's state
export function mainConnection(open: OpenUpstream, options: () => ClientOptions, changed: () => void): MainConnection {
  let opening: Promise<Client> | undefined;
  let fault: string | undefined;
  let isClosed = false;
  let isResting = false;
  let wait = firstPauseMs;
  let timer: NodeJS.Timeout | undefined;
  const later = () => {
    if (isClosed || timer !== undefined) return;
    timer = setTimeout(
      () => {
        timer = undefined;
        // Failing again is expected: the next attempt is planned by the failure itself.
        connect().then(changed, () => undefined);
      },
      wait * (0.75 + Math.random() / 2),
    );
    timer.unref();
    wait = Math.min(longestPauseMs, wait * 2);
  };
  const lost = (which: Promise<Client>, why: string) => {
    if (opening !== which) return;
    opening = undefined;
    if (isClosed || isResting) return;
    fault = why;
    changed();
    later();
  };
  const connect = (signal?: AbortSignal): Promise<Client> => {
    if (opening !== undefined) return opening;
    const made = open({
      ...options(),
      pingEveryMs,
      ...(signal && { signal }),
      onToolsChanged: changed,
      onResourcesChanged: changed,
      onPromptsChanged: changed,
      onRenewed: changed,
      onClosed: (error) => lost(made, error === undefined ? 'it has ended the connection' : messageOf(error)),
    });
    opening = made;
    isResting = false;
    made.then(
      () => {
        fault = undefined;
        wait = firstPauseMs;
      },
      (error: unknown) => {
        if (opening === made) opening = undefined;
        fault = messageOf(error);
        if (signal?.aborted !== true) later();
      },
    );
    return made;
  };
  const end = async () => {
    clearTimeout(timer);
    timer = undefined;
    const before = opening;
    opening = undefined;
    await before?.then(
      (client) => client.close(),
      () => undefined,
    );
  };
  return {
    client(signal) {
      isClosed = false;
      return connect(signal);
    },
    get fault() {
      return fault;
    },
    suspect() {
      const which = opening;
      void which
        ?.then((client) =>
          client.ping({ timeoutMs: patienceMs }).catch(async (error: unknown) => {
            lost(which, messageOf(error));
            await client.close();
          }),
        )
        .catch(() => undefined); // what could not be opened is being opened again already
    },
    async rest() {
      isResting = true;
      await end();
    },
    async close() {
      isClosed = true;
      await end();
    },
  };
}
