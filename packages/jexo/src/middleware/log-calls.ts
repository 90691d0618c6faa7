import { openSync, writeSync } from 'node:fs';
import { messageOf } from '../errors.js';
import type { Middleware, Request } from '../offers/middleware.js';
import type { Session } from '../offers/session.js';
import { observedWhole, sessionName } from './outcome.js';

/** What is logged, and where. */
export interface LogCallsOptions {
  /** A file; lines are added to it. Default: stderr. */
  readonly file?: string;
  /** Logs inputs too. They may hold what nobody else should read. Default false. */
  readonly inputs?: boolean;
  /** Lines for people instead of JSON. Default: true when stderr is a terminal and no file is given. */
  readonly readable?: boolean;
}

/**
 * Logs a line for every call: when, who, what, how long, with which outcome. As JSON, or readable on a terminal.
 * A file that cannot be opened fails every call.
 *
 * @example
 * defineServer({ …, middleware: [logCalls({ file: 'calls.log' })] })
 */
export function logCalls({
  file,
  inputs = false,
  readable = file === undefined && process.stderr.isTTY,
}: LogCallsOptions = {}): Middleware {
  // The library is loaded when there is something to log.
  let opening: Promise<Log> | undefined;
  let log: Log | undefined;
  const open = () =>
    (opening ??= openLog(file).then(
      (opened) => (log = opened),
      (error: unknown) => {
        opening = undefined;
        throw error;
      },
    ));
  const run = (request: Request, next: (request: Request) => unknown, opened: Log): unknown => {
    const { offer, input, call } = request;
    const { identity, claims } = call.caller;
    const caller = typeof claims?.name === 'string' ? claims.name : identity;
    return observedWhole(request, next, ({ outcome, code, ms, bytes }) => {
      if (readable) {
        const who = caller === undefined ? '' : `  ${caller}`;
        opened.to.write(
          `${new Date().toISOString().slice(11, 19)}  ${outcome.padEnd(9)}  ${offer.name}  ${ms} ms  ${bytes} bytes${who}${code === undefined ? '' : `  ${code}`}\n`,
        );
        return;
      }
      const line = { request: call.requestId, ...(inputs && { input }), outcome, ...(code !== undefined && { code }), ms, bytes };
      const own = loggerFor(opened, request);
      if (outcome === 'failed') own.warn(line);
      else own.info(line);
    });
  };
  return (request, next) => (log === undefined ? open().then((opened) => run(request, next, opened)) : run(request, next, log));
}

/** Children of the logger that are kept for a session. */
const mostKept = 200;

/** What is the same in all lines of a session about an offer is written down once. */
function loggerFor({ logger, kept }: Log, { method, offer, call: { caller, session } }: Request): CallLogger {
  let own = kept.get(session);
  if (own === undefined) kept.set(session, (own = new Map()));
  const key = `${method} ${offer.kind} ${offer.name}`;
  let found = own.get(key);
  if (found === undefined) {
    if (own.size >= mostKept) own.clear();
    const { identity } = caller;
    const same = { session: sessionName(session.id), revision: session.revision, method, kind: offer.kind, offer: offer.name };
    own.set(key, (found = logger.child({ ...(identity !== undefined && { caller: identity }), ...same })));
  }
  return found;
}

interface CallLogger {
  info(line: object): void;
  warn(line: object): void;
  child(same: object): CallLogger;
}

interface Log {
  readonly to: { write(line: string): void };
  readonly logger: CallLogger;
  readonly kept: WeakMap<Session, Map<string, CallLogger>>;
}

async function openLog(file: string | undefined): Promise<Log> {
  const { default: pino } = await import('pino');
  const to = gathered(file === undefined ? 2 : openSync(file, 'a'));
  const logger = pino({ base: null, timestamp: isoTime, formatters: { level: (level) => ({ level }) } }, to);
  return { to, logger, kept: new WeakMap() };
}

/** Lines are written together, so many milliseconds after the first of them. */
const gatherMs = 10;
const mostGathered = 64 * 1024;

let second = -1;
let secondShown = '';
/** The time as ISO 8601 has it; what is the same for a second is made once. */
const isoTime = (): string => {
  const now = Date.now();
  const ms = now % 1000;
  if (now - ms !== second) {
    second = now - ms;
    secondShown = new Date(second).toISOString().slice(0, 20);
  }
  return `,"time":"${secondShown}${String(ms).padStart(3, '0')}Z"`;
};

/** Bytes that wait for a reader of stderr that has stopped reading; further lines are dropped and counted. */
const mostWaiting = 1024 * 1024;

/** Nothing is lost when the process ends by itself; one that is killed loses the last lines. A reader that stops never stops the server. */
function gathered(descriptor: number): Log['to'] {
  let waiting = '';
  let dropped = 0;
  let isDue = false;
  let nextFlush = mostGathered;
  const flush = () => {
    isDue = false;
    const told = dropped === 0 ? '' : `${JSON.stringify({ level: 'warn', dropped })}\n`;
    const bytes = Buffer.from(waiting + told);
    waiting = '';
    dropped = 0;
    try {
      const written = writeMost(descriptor, bytes);
      waiting = bytes.toString('utf8', written) + waiting;
      nextFlush = waiting.length + mostGathered;
      if (waiting !== '') later();
    } catch (error) {
      console.error(`jexo: ${messageOf(error)}: lines of the log are lost.`);
    }
  };
  const later = () => {
    if (isDue) return;
    isDue = true;
    setTimeout(flush, gatherMs).unref();
  };
  process.on('exit', flush);
  return {
    write(line) {
      if (waiting.length > mostWaiting) dropped++;
      else waiting += line;
      // A loop that never waits would never let the timer come.
      if (waiting.length > nextFlush) flush();
      else later();
    },
  };
}

/** Writes what the other side takes now; gives how many bytes that was. */
function writeMost(descriptor: number, bytes: Buffer): number {
  let at = 0;
  try {
    while (at < bytes.length) at += writeSync(descriptor, bytes, at);
  } catch (error) {
    // A pipe that is full for the moment.
    if ((error as NodeJS.ErrnoException).code !== 'EAGAIN') throw error;
  }
  return at;
}
