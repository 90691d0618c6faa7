import { systemClock } from '../engine/clock.js';
import type { Channel } from '../engine/exchange.js';
import { failure } from '../engine/peer.js';
import type { Servable } from '../engine/servable.js';
import { isTooDeep, maxDepth } from '../protocol/depth.js';
import { encode, errorCodes } from '../protocol/json-rpc.js';
import { LineReader } from './lines.js';
import { wireTime, type WireTap } from './link.js';
import { guardStdout } from './stdout-guard.js';

export interface ServeStdioOptions {
  /** Bytes one message may have. Default 16 MiB; a longer one is refused and skipped. */
  readonly maxMessageBytes?: number;
  /** Milliseconds that calls in flight get to finish when the input ends or the process is asked to stop. Default 5,000. */
  readonly graceMs?: number;
  /** Sees every message that passes, both ways. */
  readonly tap?: WireTap;
  /** Told of what an operator should know. Default: one line on stderr each. */
  readonly onNote?: (note: string) => void;
}

/** How soon an orphan notices that its parent is gone. */
const orphanCheckMs = 1000;

export interface StdioService {
  /** Resolves when the input has ended and all that was in flight is answered. */
  readonly closed: Promise<void>;
  close(): Promise<void>;
}

/**
 * Serves over stdin and stdout (Transports, "stdio"). Stdout carries messages only: whatever else is printed goes to stderr.
 *
 * @example
 * await (await serveStdio(apiary)).closed;
 */
export async function serveStdio(server: Servable, options: ServeStdioOptions = {}): Promise<StdioService> {
  const {
    tap,
    maxMessageBytes = 16 * 1024 * 1024,
    graceMs = 5000,
    onNote = (note: string) => void process.stderr.write(`jexo: ${note}\n`),
  } = options;
  const stdout = guardStdout(() =>
    onNote('something was printed to stdout. It is shown here instead, because stdout carries the protocol.'),
  );

  // Answers of one turn leave in one write: with many calls in flight, writing is what costs.
  let waiting = '';
  let reading = false;
  const flush = () => {
    if (waiting === '') return;
    const text = waiting;
    waiting = '';
    stdout.write(text);
  };
  const channel: Channel = {
    send(message) {
      if (waiting === '' && !reading) queueMicrotask(flush);
      const text = encode(message);
      tap?.({ at: wireTime(), way: 'sent', bytes: Buffer.byteLength(text) + 1, message: JSON.parse(text) });
      waiting += `${text}\n`;
    },
  };
  const peer = server.open({
    outlet: channel,
    clock: systemClock,
    caller: { transport: 'stdio' },
    onFault: (error, reference) => onNote(`fault ${reference}: ${error instanceof Error ? (error.stack ?? error.message) : String(error)}`),
  });
  const reader = new LineReader(
    maxMessageBytes,
    (line) => {
      if (isTooDeep(line))
        return channel.send(
          failure(undefined, {
            code: errorCodes.invalidRequest,
            message: `Invalid request: the message nests deeper than ${maxDepth} levels`,
          }),
        );
      let value: unknown;
      try {
        value = JSON.parse(line);
      } catch {
        return channel.send(failure(undefined, { code: errorCodes.parseError, message: 'Parse error: the line is not JSON' }));
      }
      tap?.({ at: wireTime(), way: 'received', bytes: Buffer.byteLength(line) + 1, message: value });
      peer.receive(value, channel);
    },
    () =>
      channel.send(
        failure(undefined, {
          code: errorCodes.invalidRequest,
          message: `Invalid request: a message may have at most ${maxMessageBytes} bytes`,
        }),
      ),
  );

  let finish!: () => void;
  const closed = new Promise<void>((resolve) => (finish = resolve));
  let closing: Promise<void> | undefined;
  const close = (): Promise<void> =>
    (closing ??= (async () => {
      clearInterval(watch);
      process.off('unhandledRejection', onRejection);
      process.stdin.off('data', onData);
      process.stdin.pause();
      let timer: NodeJS.Timeout | undefined;
      await Promise.race([peer.whenIdle(), new Promise((resolve) => (timer = setTimeout(resolve, graceMs)))]);
      clearTimeout(timer);
      peer.close('the server is stopping');
      flush();
      await new Promise<void>((resolve) => void stdout.write('', () => resolve()));
      stdout.release();
      finish();
    })());

  const onData = (chunk: Buffer) => {
    reading = true;
    reader.push(chunk);
    reading = false;
    flush();
  };
  process.stdin.on('data', onData);
  // A promise nobody waits for is the user's slip, not the end of the service; it is told, on stderr.
  const onRejection = (error: unknown) =>
    onNote(`unhandled rejection: ${error instanceof Error ? (error.stack ?? error.message) : String(error)}`);
  process.on('unhandledRejection', onRejection);
  // Usually the input ends with the parent. Where somebody else holds it open, the change of parent tells.
  const parent = process.ppid;
  const watch = setInterval(() => process.ppid !== parent && void close(), orphanCheckMs).unref();
  process.stdin.once('end', () => {
    reader.end();
    void close();
  });
  process.stdin.once('error', () => void close());
  // The reader of our answers is gone: there is nobody left to serve.
  process.stdout.on('error', () => void close());
  server.ready().catch((error: unknown) => onNote(error instanceof Error ? error.message : String(error)));
  return { closed, close };
}
