import { JexoError } from '../errors.js';
import { printFault } from '../engine/faults.js';
import { isTooDeep } from '../protocol/depth.js';
import { encode, type JsonRpcMessage } from '../protocol/json-rpc.js';
import { startChild, type Child, type CommandTarget } from './child-process.js';
import { noMessage, safeTap, wireTime, type Deviation, type Link, type LinkEvents, type WireTap } from './link.js';

/** How a client starts a server over stdio. */
export interface StdioLinkOptions {
  /** Called with each message. */
  readonly tap?: WireTap;
  /** Each line the child writes to stderr. It need not mean failure. */
  readonly onStderr?: (line: string) => void;
  /** Called for lines on stdout that are not messages; they are skipped. */
  readonly onDeviation?: (deviation: Deviation) => void;
  /** True ends the connection at the first line on stdout that is no message, as some hosts do. Default false. */
  readonly strict?: boolean;
  /** Bytes one message may have. Default 256 MiB. */
  readonly maxMessageBytes?: number;
  /** Bytes that may wait for a server that does not read; beyond that the connection ends. Default 64 MiB. */
  readonly maxUnreadBytes?: number;
  /** Milliseconds between closing stdin, SIGTERM and SIGKILL. Default 2,000. */
  readonly patienceMs?: number;
  /** How many times in a row a server that exited by itself is restarted. Default 0. */
  readonly maxRestarts?: number;
  /** Milliseconds before the first restart; each further one waits twice as long. Default 250. */
  readonly backOffMs?: number;
  /** Called when the server is restarted, with the reason. */
  readonly onRestart?: (why: Error) => void;
}

/** How long a server that has printed something else may take until its first message. */
const firstMessageMs = 10_000;

/** A server that printed where only messages belong and never spoke is most likely not one for stdio. */
function noProtocol(first: string, what: string, where: string): JexoError {
  return new JexoError('JEXO_NOT_PROTOCOL', `The server printed a line to stdout that is not a protocol message: ${first}${what}`, {
    where,
  });
}

type Message = JsonRpcMessage | readonly JsonRpcMessage[];

/** A link to a server that we start as a child process (Transports, "stdio"). */
// eslint-disable-next-line max-lines-per-function -- the members of a link share its process
export function stdioLink(target: CommandTarget, options: StdioLinkOptions = {}): Link {
  const { onStderr, onDeviation, strict = false, maxMessageBytes = 256 * 1024 * 1024, patienceMs = 2000, maxRestarts = 0 } = options;
  const tap = options.tap && safeTap(options.tap, printFault);
  const { backOffMs = 250, maxUnreadBytes = 64 * 1024 * 1024, onRestart } = options;
  const address = [target.command, ...target.args].join(' ');
  let child: Child | undefined;
  let closing = false;
  let restarts = 0;
  /** Messages that wait for a server that is being restarted. */
  let held: Message[] | undefined;

  const begin = async (events: LinkEvents): Promise<void> => {
    let noise: string | undefined;
    let hasSpoken = false;
    let silence: NodeJS.Timeout | undefined;
    let fault: JexoError | undefined;
    const spoil = (error: JexoError) => {
      fault = error;
      events.closed(error);
    };
    const mine = await startChild(target, maxMessageBytes, {
      onStderr: (line) => onStderr?.(line),
      onTooLong: (length) =>
        spoil(new JexoError('JEXO_TOO_LARGE', `The server sent a message of more than ${length} bytes.`, { where: address })),
      onLine(line) {
        let message: unknown;
        try {
          message = isTooDeep(line) ? undefined : JSON.parse(line);
        } catch {
          message = undefined;
        }
        if (message === undefined) {
          const shown = line.length > 200 ? `${line.slice(0, 200)}...` : line;
          tap?.({ at: wireTime(), way: 'received', bytes: Buffer.byteLength(line), message: line.slice(0, 10_000), note: noMessage });
          const account = `The server printed a line to stdout that is not a protocol message: ${shown}`;
          noise ??= shown;
          if (!hasSpoken)
            silence ??= setTimeout(
              () => spoil(noProtocol(noise!, `\nNo message came within ${firstMessageMs / 1000} s.`, address)),
              firstMessageMs,
            ).unref();
          if (!strict) return onDeviation?.({ kind: 'stdout', account });
          return spoil(new JexoError('JEXO_NOT_PROTOCOL', account, { where: address }));
        }
        tap?.({ at: wireTime(), way: 'received', bytes: Buffer.byteLength(line) + 1, message });
        hasSpoken = true;
        clearTimeout(silence);
        events.receive(message);
      },
    });
    child = mine;
    void mine.ended.then((why) => {
      clearTimeout(silence);
      if (closing) return events.closed();
      if (fault === undefined && restarts < maxRestarts && events.renew !== undefined) return void restart(events, why);
      events.closed(fault ?? (noise !== undefined && !hasSpoken ? noProtocol(noise, `\n${why.message}`, address) : why));
    });
  };

  /** What was in flight fails; the next request finds the new server. */
  const restart = async (events: LinkEvents, why: JexoError): Promise<void> => {
    held = [];
    events.interrupted(why);
    await new Promise((resolve) => setTimeout(resolve, backOffMs * 2 ** restarts++));
    if (closing) return events.closed();
    try {
      onRestart?.(why);
    } catch (error) {
      printFault(error, 'in a listener of the client');
    }
    try {
      await begin(events);
      await events.renew!();
      restarts = 0;
      const waiting = held;
      held = undefined;
      for (const message of waiting) write(message);
    } catch (error) {
      events.closed(error as Error);
    }
  };
  const write = (message: Message) => {
    const text = `${encode(message)}\n`;
    tap?.({ at: wireTime(), way: 'sent', bytes: Buffer.byteLength(text), message });
    child!.write(text);
  };
  const sendWithin = (message: Message, events: LinkEvents) => {
    if (closing) return;
    write(message);
    const unread = child!.unread();
    if (unread <= maxUnreadBytes) return;
    closing = true;
    void child!.stop(0);
    events.closed(
      new JexoError('JEXO_CONNECT', `The server has stopped reading: ${unread} bytes wait for it.`, {
        where: address,
        next: 'Find out what the server is busy with, or raise maxUnreadBytes.',
      }),
    );
  };

  return {
    address,
    async start(events) {
      await begin(events);
      return {
        send(message) {
          // Messages wait while a server restarts; only the handshake may pass.
          const { method } = message as { method?: string };
          if (held === undefined || method === 'initialize' || method === 'notifications/initialized') sendWithin(message, events);
          else held.push(message);
        },
      };
    },
    async close() {
      closing = true;
      await child?.stop(patienceMs);
    },
  };
}
