import { systemClock } from '../engine/clock.js';
import { describeFault } from '../engine/faults.js';
import type { Channel } from '../engine/exchange.js';
import { failure, type Peer } from '../engine/peer.js';
import { hold, type Servable } from '../engine/servable.js';
import { isTooDeep, maxDepth } from '../protocol/depth.js';
import { encode, errorCodes, type JsonRpcMessage } from '../protocol/json-rpc.js';
import { LineReader } from './lines.js';
import { safeTap, wireTime, type WireTap } from './link.js';
import { guardStdout } from './stdout-guard.js';
import { surviveStrays } from './strays.js';
import { counted } from '../protocol/counted.js';

/** How `serveStdio` serves. */
export interface ServeStdioOptions {
  /** Bytes one message may have. Default 16 MiB; a longer one is refused and skipped. */
  readonly maxMessageBytes?: number;
  /** Milliseconds that calls in flight get to finish when the input ends or the process is asked to stop. Default 5,000. */
  readonly graceMs?: number;
  /** Sees every message that passes, both ways. */
  readonly tap?: WireTap;
  /** Called with faults inside handlers and the reference the client gets. Default: `onNote`. */
  readonly onFault?: (error: unknown, reference: string) => void;
  /** Bytes that may wait for a client that does not read; beyond that it is given up. Default 64 MiB. */
  readonly maxUnreadBytes?: number;
  /** Milliseconds a process may go on after the client is gone: a timer somebody forgot would keep it for ever. Default 2,000; 0 leaves it. */
  readonly exitAfterMs?: number;
  /** Called with what an operator should know. Default: a line on stderr. */
  readonly onNote?: (note: string) => void;
}

/** How soon an orphan notices that its parent is gone, and a server whose input has ended that nobody reads its output either. */
const orphanCheckMs = 1000;
const probeMs = 500;
/** What has been written gets so long to be read when all ends. */
const lastFlushMs = 500;

/** A server that is served over stdin and stdout. */
export interface StdioService {
  /** Resolves when the input has ended and all that was in flight is answered. */
  readonly closed: Promise<void>;
  /** Stops taking messages, answers what is in flight, and releases the server. */
  close(): Promise<void>;
}

/**
 * Serves over stdin and stdout (Transports, "stdio"). Stdout carries messages only: whatever else is printed goes to stderr.
 *
 * @example
 * await (await serveStdio(apiary)).closed;
 */
export async function serveStdio(server: Servable, options: ServeStdioOptions = {}): Promise<StdioService> {
  const service = new StdioServing(server, options);
  service.start();
  server.ready().catch((error: unknown) => service.note(`the server cannot be read: ${describeFault(error)}`));
  return service;
}

class StdioServing implements StdioService {
  readonly closed: Promise<void>;
  readonly note: (text: string) => void;
  private finish!: () => void;
  /** Resolves when nobody can be there to read what is sent. */
  private readonly gone: Promise<void>;
  private giveUp!: () => void;
  private readonly stdout: ReturnType<typeof guardStdout>;
  private readonly letGo: () => Promise<void>;
  private readonly peer: Peer;
  private readonly channel: Channel;
  private readonly reader: LineReader;
  private readonly tap: WireTap | undefined;
  private closing: Promise<void> | undefined;
  private release: () => void = () => undefined;
  private watch: NodeJS.Timeout | undefined;
  /** Usually the input ends with the parent. Where somebody else holds it open, the change of parent tells. */
  private readonly parent = process.ppid;
  // Answers of one turn leave in one write: with many calls in flight, writing is what costs.
  private waiting = '';
  private isReading = false;

  constructor(
    server: Servable,
    private readonly options: ServeStdioOptions,
  ) {
    this.note = options.onNote ?? ((text) => void process.stderr.write(`jexo: ${text}\n`));
    this.closed = new Promise((resolve) => (this.finish = resolve));
    this.gone = new Promise((resolve) => (this.giveUp = resolve));
    this.letGo = hold(server);
    this.stdout = guardStdout(() => this.note(printed));
    const onFault = options.onFault ?? ((error: unknown, reference: string) => this.note(`fault ${reference}: ${describeFault(error)}`));
    this.tap = options.tap && safeTap(options.tap, onFault);
    this.channel = { send: (message) => this.send(message) };
    this.peer = server.open({ outlet: this.channel, clock: systemClock, caller: { transport: 'stdio' }, onFault });
    const { maxMessageBytes = 16 * 1024 * 1024 } = options;
    this.reader = new LineReader(
      maxMessageBytes,
      (line) => this.take(line),
      () => this.refuse(errorCodes.invalidRequest, `Invalid request: a message may have at most ${maxMessageBytes} bytes`),
    );
  }

  start(): void {
    process.stdin.on('data', this.onData);
    this.release = surviveStrays(this.note);
    this.watch = setInterval(() => process.ppid !== this.parent && this.abandon(), orphanCheckMs).unref();
    process.stdin.once('end', () => {
      this.reader.end();
      void this.close();
    });
    process.stdin.once('error', () => void this.close());
    // The reader of our answers is gone: there is nobody left to serve.
    process.stdout.on('error', () => this.abandon());
  }

  close(): Promise<void> {
    return (this.closing ??= this.end());
  }

  private readonly onData = (chunk: Buffer): void => {
    this.isReading = true;
    this.reader.push(chunk);
    this.isReading = false;
    this.flush();
  };

  private take(line: string): void {
    if (isTooDeep(line)) return this.refuse(errorCodes.invalidRequest, `Invalid request: the message nests deeper than ${maxDepth} levels`);
    let value: unknown;
    try {
      value = JSON.parse(line);
    } catch {
      return this.refuse(errorCodes.parseError, 'Parse error: the line is not JSON');
    }
    this.tap?.({ at: wireTime(), way: 'received', bytes: Buffer.byteLength(line) + 1, message: value });
    this.peer.receive(value, this.channel);
  }

  private refuse(code: number, message: string): void {
    this.send(failure(undefined, { code, message }));
  }

  private send(message: JsonRpcMessage | readonly JsonRpcMessage[]): void {
    if (this.waiting === '' && !this.isReading) queueMicrotask(() => this.flush());
    const text = encode(message);
    this.tap?.({ at: wireTime(), way: 'sent', bytes: Buffer.byteLength(text) + 1, message: JSON.parse(text) });
    this.waiting += `${text}\n`;
  }

  private flush(): void {
    if (this.waiting === '') return;
    const text = this.waiting;
    this.waiting = '';
    this.stdout.write(text);
    const { maxUnreadBytes = 64 * 1024 * 1024 } = this.options;
    if (process.stdout.writableLength <= maxUnreadBytes) return;
    this.note(`the client has stopped reading: ${process.stdout.writableLength} bytes wait for it. The server ends.`);
    this.abandon();
  }

  /** Nobody is there any more: nothing is waited for. */
  private abandon(): void {
    this.giveUp();
    void this.close();
  }

  private async end(): Promise<void> {
    const { peer, stdout } = this;
    const { graceMs = 5000, exitAfterMs = 2000 } = this.options;
    clearInterval(this.watch);
    process.stdin.off('data', this.onData);
    process.stdin.pause();
    const { incoming } = peer.inFlight;
    if (incoming > 0) this.note(`waiting up to ${graceMs / 1000} s for ${counted(incoming, 'request')} in flight`);
    // A client that only closed its end waits for answers; one that died does not, and a message shows which it is.
    const probe = setInterval(() => {
      if (process.ppid !== this.parent) return this.giveUp();
      if (peer.state === 'ready') peer.request('ping', undefined, { timeoutMs: 0 }).catch(() => undefined);
      this.flush();
    }, probeMs);
    await this.atMost(graceMs, peer.whenIdle());
    clearInterval(probe);
    peer.close('the server is stopping');
    this.flush();
    await this.atMost(lastFlushMs, new Promise<void>((resolve) => void stdout.write('', () => resolve())));
    await this.letGo().catch((error: unknown) => this.note(`a source could not be closed: ${describeFault(error)}`));
    stdout.release();
    this.release();
    if (exitAfterMs > 0) setTimeout(() => process.exit(), exitAfterMs).unref();
    this.finish();
  }

  /** Waits for a work, while somebody is there, and no longer than so many milliseconds. */
  private async atMost(ms: number, work: Promise<void>): Promise<void> {
    let timer: NodeJS.Timeout | undefined;
    await Promise.race([work, this.gone, new Promise((resolve) => (timer = setTimeout(resolve, ms)))]);
    clearTimeout(timer);
  }
}

const printed = 'something was printed to stdout. It is shown here instead, because stdout carries the protocol.';
