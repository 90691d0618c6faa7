import type { Middleware } from '../offers/middleware.js';
import { observed, sessionName } from './outcome.js';

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
  let opened: ReturnType<typeof openLog> | undefined;
  return async (request, next) => {
    const { offer, input, call } = request;
    const { to, logger } = await (opened ??= openLog(file));
    const { identity, claims } = call.caller;
    const caller = typeof claims?.name === 'string' ? claims.name : identity;
    return observed(request, next, ({ outcome, code, ms }) => {
      if (readable) {
        const who = caller === undefined ? '' : `  ${caller}`;
        to.write(
          `${new Date().toISOString().slice(11, 19)}  ${outcome.padEnd(9)}  ${offer.name}  ${ms} ms${who}${code === undefined ? '' : `  ${code}`}\n`,
        );
        return;
      }
      const line = {
        ...(identity !== undefined && { caller: identity }),
        session: sessionName(call.session.id),
        revision: call.session.revision,
        kind: offer.kind,
        offer: offer.name,
        ...(inputs && { input }),
        outcome,
        ...(code !== undefined && { code }),
        ms,
      };
      if (outcome === 'failed') logger.warn(line);
      else logger.info(line);
    });
  };
}

async function openLog(file: string | undefined) {
  const { default: pino } = await import('pino');
  // A line is written before the answer goes out: nothing is lost when the process ends.
  const to = pino.destination({ dest: file ?? 2, sync: true, append: true });
  const logger = pino({ base: null, timestamp: pino.stdTimeFunctions.isoTime, formatters: { level: (level) => ({ level }) } }, to);
  return { to, logger };
}
