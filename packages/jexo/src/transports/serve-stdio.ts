import { systemClock } from '../engine/clock.js';
import { describeFault } from '../engine/faults.js';
import type { Channel } from '../engine/exchange.js';
import { failure } from '../engine/peer.js';
import { hold, type Servable } from '../engine/servable.js';
import { isTooDeep, maxDepth } from '../protocol/depth.js';
import { encode, errorCodes } from '../protocol/json-rpc.js';
import { LineReader } from './lines.js';
import { safeTap, wireTime, type WireTap } from './link.js';
import { guardStdout } from './stdout-guard.js';
import { surviveStrays } from './strays.js';

export interface ServeStdioOptions {
  /** Bytes one message may have. Default 16 MiB; a longer one is refused and skipped. */
  readonly maxMessageBytes?: number;
  /** Milliseconds that calls in flight get to finish when the input ends or the process is asked to stop. Default 5,000. */
  readonly graceMs?: number;
  /** Sees every message that passes, both ways. */
  readonly tap?: WireTap;
  /** Told of faults inside handlers, with the reference the client gets. Default: `onNote` is. */
  readonly onFault?: (error: unknown, reference: string) => void;
  /** Bytes that may wait for a client that does not read; beyond that it is given up. Default 64 MiB. */
  readonly maxUnreadBytes?: number;
  /** Milliseconds a process may go on after the client is gone: a timer somebody forgot would keep it for ever. Default 2,000; 0 leaves it. */
  readonly exitAfterMs?: number;
  /** Told of what an operator should know. Default: one line on stderr each. */
  readonly onNote?: (note: string) => void;
}

/** How soon an orphan notices that its parent is gone, and a server whose input has ended that nobody reads its output either. */
const orphanCheckMs = 1000;
const probeMs = 500;
/** What has been written gets so long to be read when all ends. */
const lastFlushMs = 500;

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
    maxMessageBytes = 16 * 1024 * 1024,
    maxUnreadBytes = 64 * 1024 * 1024,
    graceMs = 5000,
    exitAfterMs = 2000,
    onNote = (note: string) => void process.stderr.write(`jexo: ${note}\n`),
  } = options;
  const letGo = hold(server);
  const stdout = guardStdout(() =>
    onNote('something was printed to stdout. It is shown here instead, because stdout carries the protocol.'),
  );

  const onFault = options.onFault ?? ((error: unknown, reference: string) => onNote(`fault ${reference}: ${describeFault(error)}`));
  const tap = options.tap && safeTap(options.tap, onFault);
  let giveUp!: () => void;
  /** Resolves when nobody can be there to read what is sent. */
  const gone = new Promise<void>((resolve) => (giveUp = resolve));

  // Answers of one turn leave in one write: with many calls in flight, writing is what costs.
  let waiting = '';
  let reading = false;
  const flush = () => {
    if (waiting === '') return;
    const text = waiting;
    waiting = '';
    stdout.write(text);
    if (process.stdout.writableLength <= maxUnreadBytes) return;
    onNote(`the client has stopped reading: ${process.stdout.writableLength} bytes wait for it. The server ends.`);
    giveUp();
    void close();
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
    onFault,
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
  const close = (): Promise<void> => (closing ??= end());
  const end = async (): Promise<void> => {
    clearInterval(watch);
    process.stdin.off('data', onData);
    process.stdin.pause();
    const { incoming } = peer.inFlight;
    if (incoming > 0) onNote(`waiting up to ${graceMs / 1000} s for ${incoming} ${incoming === 1 ? 'request' : 'requests'} in flight`);
    // A client that only closed its end waits for answers; one that died does not, and a message shows which it is.
    const probe = setInterval(() => {
      if (process.ppid !== parent) return giveUp();
      if (peer.state === 'ready') peer.request('ping', undefined, { timeoutMs: 0 }).catch(() => undefined);
      flush();
    }, probeMs);
    let timer: NodeJS.Timeout | undefined;
    await Promise.race([peer.whenIdle(), gone, new Promise((resolve) => (timer = setTimeout(resolve, graceMs)))]);
    clearTimeout(timer);
    clearInterval(probe);
    peer.close('the server is stopping');
    flush();
    await Promise.race([
      gone,
      new Promise<void>((resolve) => void stdout.write('', () => resolve())),
      new Promise((resolve) => (timer = setTimeout(resolve, lastFlushMs))),
    ]);
    clearTimeout(timer);
    await letGo().catch((error: unknown) => onNote(`a source could not be closed: ${describeFault(error)}`));
    stdout.release();
    release();
    if (exitAfterMs > 0) setTimeout(() => process.exit(), exitAfterMs).unref();
    finish();
  };

  const onData = (chunk: Buffer) => {
    reading = true;
    reader.push(chunk);
    reading = false;
    flush();
  };
  process.stdin.on('data', onData);
  const release = surviveStrays(onNote);
  // Usually the input ends with the parent. Where somebody else holds it open, the change of parent tells.
  const parent = process.ppid;
  const watch = setInterval(() => {
    if (process.ppid === parent) return;
    giveUp();
    void close();
  }, orphanCheckMs).unref();
  process.stdin.once('end', () => {
    reader.end();
    void close();
  });
  process.stdin.once('error', () => void close());
  // The reader of our answers is gone: there is nobody left to serve.
  process.stdout.on('error', () => {
    giveUp();
    void close();
  });
  server.ready().catch((error: unknown) => onNote(`the server cannot be read: ${describeFault(error)}`));
  return { closed, close };
}
