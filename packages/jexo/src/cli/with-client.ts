import type { ServerAnswers } from '../client/answer-server.js';
import type { Client } from '../client/connect-link.js';
import { JexoError } from '../errors.js';
import { maskSecrets } from '../inspect/recorder.js';
import type { Omission } from '../offers/source.js';
import { errorCodes, RpcError } from '../protocol/json-rpc.js';
import type { ProgressUpdate } from '../protocol/types.js';
import type { WireEvent, WireTap } from '../transports/link.js';
import { closeTerminal, terminalAnswers } from './ask.js';
import type { Opening } from './command.js';
import { connectTarget, type TargetWords } from './connect-target.js';
import { keepListing } from './listings.js';
import { note, onErr, presentable, symbols } from './terminal.js';

/** The options of every command that talks to a server. */
export interface ClientCommandOptions {
  readonly json?: boolean;
  /** Seconds without an answer. */
  readonly timeout?: number;
  readonly wireLog?: string;
  readonly wire?: boolean;
  readonly standIn?: boolean;
  /** What answers the server, in place of the person at the terminal. */
  readonly answers?: ServerAnswers;
  readonly opening?: Opening;
}

export interface Connected {
  readonly client: Client;
  readonly omitted: readonly Omission[];
  /** Fires on Ctrl-C: what is in flight is cancelled on the server. */
  readonly signal: AbortSignal;
  readonly onProgress: (update: ProgressUpdate) => void;
  /** Takes the line of progress away, before anything else is shown. */
  readonly clearProgress: () => void;
}

/** Connects, does something, and closes, whatever happens. */
export async function withClient<T>(
  target: TargetWords,
  options: ClientCommandOptions,
  use: (connected: Connected) => Promise<T>,
): Promise<T> {
  const { signal, release } = stopOnInterrupt();
  const bar = progressLine();
  try {
    const { client, omitted, server } = await connectTarget(target, {
      signal,
      ...(options.timeout !== undefined && { timeoutMs: options.timeout * 1000 }),
      wireLog: options.wireLog,
      opening: options.opening,
      ...(options.answers ?? terminalAnswers(options.standIn ?? false)),
      ...wireTap(options),
      onLog({ level, data }) {
        bar.clear();
        note(`${onErr('quiet', `${level}:`)} ${typeof data === 'string' ? data : JSON.stringify(data)}`);
      },
    });
    try {
      const result = await use({ client, omitted, signal, onProgress: bar.show, clearProgress: bar.clear });
      if (server !== undefined && target.text !== undefined) await keepListing(target.text, server);
      return result;
    } finally {
      bar.clear();
      await client.close();
    }
  } finally {
    closeTerminal();
    release();
  }
}

/** A signal that fires on Ctrl-C, and how to stop listening. */
export function stopOnInterrupt(): { readonly signal: AbortSignal; readonly release: () => void } {
  const stop = new AbortController();
  const onInterrupt = () => stop.abort(new JexoError('JEXO_CANCELLED', 'Stopped from the keyboard.'));
  process.once('SIGINT', onInterrupt);
  return { signal: stop.signal, release: () => void process.off('SIGINT', onInterrupt) };
}

export function wireTap({ wire }: ClientCommandOptions): { tap?: WireTap } {
  return wire ? { tap: showWire } : {};
}

/** Each message as it passes, on stderr, secrets masked. */
function showWire({ way, message, http, note: words = '' }: WireEvent): void {
  const arrow = way === 'sent' ? onErr('lake', symbols.out) : onErr('moss', symbols.in);
  const head = http === undefined ? '' : onErr('quiet', `${http.method ?? http.status} `);
  if (message === undefined && words.startsWith('sign-in: ')) return note(`${arrow} ${onErr('quiet', words.replaceAll('\n', ' '))}`);
  if (message === undefined && http === undefined) return;
  note(`${arrow} ${head}${message === undefined ? '' : typeof message === 'string' ? message : JSON.stringify(maskSecrets(message))}`);
}

const barWidth = 24;

/** One line that is drawn over at a terminal; lines one after the other where it is none. */
export function progressLine(): { show: (update: ProgressUpdate) => void; clear: () => void } {
  const live = process.stderr.isTTY === true && process.env.TERM !== 'dumb';
  let drawn = false;
  const clear = () => {
    if (drawn) process.stderr.write('\r\u001b[2K');
    drawn = false;
  };
  return {
    clear,
    show({ progress, total, message = '' }) {
      const share = total === undefined || total === 0 ? undefined : Math.min(1, progress / total);
      const far = share === undefined ? String(progress) : `${Math.round(100 * share)} %`;
      if (!live) return note(onErr('quiet', `${far}${message === '' ? '' : `  ${message}`}`));
      const filled = Math.round((share ?? 0) * barWidth);
      const bar =
        share === undefined
          ? ''
          : `${onErr('lake', symbols.bar.repeat(filled))}${onErr('quiet', symbols.track.repeat(barWidth - filled))} `;
      const room = (process.stderr.columns ?? 80) - barWidth - far.length - 4;
      clear();
      process.stderr.write(presentable(`${bar}${far}  ${onErr('quiet', message.replaceAll(/\s+/g, ' ').slice(0, Math.max(0, room)))}`));
      drawn = true;
    },
  };
}

/** A server's refusal of arguments as the wrong use it is, with exit code 2; any other error as it came. */
export function asInvalidInput(error: unknown, name: string): unknown {
  if (!(error instanceof RpcError) || error.code !== errorCodes.invalidParams) return error;
  return new JexoError('JEXO_INPUT_INVALID', error.message, { where: name, data: error.data });
}
