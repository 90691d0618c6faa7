import { JexoError } from '../errors.js';
import { encode } from '../protocol/json-rpc.js';
import { startChild, type Child, type CommandTarget } from './child-process.js';
import { noMessage, wireTime, type Departure, type Link, type LinkEvents, type WireTap } from './link.js';

export interface StdioLinkOptions {
  readonly tap?: WireTap;
  /** Each line the child writes to stderr. It need not mean failure. */
  readonly onStderr?: (line: string) => void;
  /** Told of lines on stdout that are no messages, which are passed over then. Default: the first one ends the connection. */
  readonly onDeparture?: (departure: Departure) => void;
  /** Bytes one message may have. Default 256 MiB. */
  readonly maxMessageBytes?: number;
  /** Milliseconds between closing stdin, SIGTERM and SIGKILL. Default 2,000. */
  readonly patienceMs?: number;
  /** Times in a row a server that ended by itself is started anew. Default 0. */
  readonly maxRestarts?: number;
  /** Milliseconds before the first restart; each further one waits twice as long. Default 250. */
  readonly backOffMs?: number;
  /** Told when the server is started anew, and why. */
  readonly onRestart?: (why: Error) => void;
}

/** A link to a server that we start as a child process (Transports, "stdio"). */
export function stdioLink(target: CommandTarget, options: StdioLinkOptions = {}): Link {
  const { tap, onStderr, onDeparture, maxMessageBytes = 256 * 1024 * 1024, patienceMs = 2000, maxRestarts = 0 } = options;
  const { backOffMs = 250, onRestart } = options;
  const address = [target.command, ...target.args].join(' ');
  let child: Child | undefined;
  let closing = false;
  let restarts = 0;

  const begin = async (events: LinkEvents): Promise<void> => {
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
          message = JSON.parse(line);
        } catch {
          const shown = line.length > 200 ? `${line.slice(0, 200)}...` : line;
          tap?.({ at: wireTime(), way: 'received', bytes: Buffer.byteLength(line), message: line, note: noMessage });
          const account = `The server printed a line to stdout that is not a protocol message: ${shown}`;
          if (onDeparture !== undefined) return onDeparture({ kind: 'stdout', account });
          return spoil(new JexoError('JEXO_NOT_PROTOCOL', account, { where: address }));
        }
        tap?.({ at: wireTime(), way: 'received', bytes: Buffer.byteLength(line) + 1, message });
        events.receive(message);
      },
    });
    child = mine;
    void mine.ended.then((why) => {
      if (closing) return events.closed();
      if (fault === undefined && restarts < maxRestarts && events.renew !== undefined) return void restart(events, why);
      events.closed(fault ?? why);
    });
  };

  /** What was in flight fails; the next request finds the new server. */
  const restart = async (events: LinkEvents, why: JexoError): Promise<void> => {
    events.interrupted(why);
    await new Promise((resolve) => setTimeout(resolve, backOffMs * 2 ** restarts++));
    if (closing) return events.closed();
    onRestart?.(why);
    try {
      await begin(events);
      await events.renew!();
      restarts = 0;
    } catch (error) {
      events.closed(error as Error);
    }
  };

  return {
    address,
    async start(events) {
      await begin(events);
      return {
        send(message) {
          const text = `${encode(message)}\n`;
          tap?.({ at: wireTime(), way: 'sent', bytes: Buffer.byteLength(text), message });
          child!.write(text);
        },
      };
    },
    async close() {
      closing = true;
      await child?.stop(patienceMs);
    },
  };
}
