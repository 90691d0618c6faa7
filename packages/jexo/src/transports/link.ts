import type { RequestId } from '../protocol/json-rpc.js';
import type { Channel } from '../engine/exchange.js';
import type { Revision } from '../protocol/revisions.js';

/** One message that passed, as the wire tap reports it. */
export interface WireEvent {
  /** Milliseconds since the epoch, with fractions. */
  readonly at: number;
  /** Which way it passed, seen from this side. */
  readonly way: 'sent' | 'received';
  /** Its size on the wire. */
  readonly bytes: number;
  /** The parsed message; the text of what is none; undefined for headers alone, and for steps of a sign-in, which `note` tells. */
  readonly message: unknown;
  /** The HTTP request or answer that carried it. */
  readonly http?: { readonly method?: string; readonly status?: number; readonly headers: Readonly<Record<string, string>> };
  /** What the transport knows beside the message: the HTTP status, a line of stderr. */
  readonly note?: string;
}
/** The time of a wire event: the wall clock, as fine as the runtime measures. */
export function wireTime(): number {
  return performance.timeOrigin + performance.now();
}

/** Sees every message that passes. */
export type WireTap = (event: WireEvent) => void;

/** A message as it is posted. */
export function posted(message: unknown, text: string, headers: Readonly<Record<string, string>>): WireEvent {
  return {
    at: wireTime(),
    way: 'sent',
    bytes: new TextEncoder().encode(text).length,
    message,
    note: 'POST',
    http: { method: 'POST', headers },
  };
}

/** What watches the traffic fails alone: the first fault of it is reported, and the traffic goes on. */
export function safeTap(tap: WireTap, onFault: (error: unknown, reference: string) => void): WireTap {
  let told = false;
  return (event) => {
    try {
      tap(event);
    } catch (error) {
      if (told) return;
      told = true;
      onFault(error, 'wire tap');
    }
  };
}

/** The note of a wire event whose line on stdout was no message. */
export const noMessage = 'not a protocol message';

/** Something the protocol forbids, which this side tolerates and another may not. */
export interface Deviation {
  /** Where it was seen. */
  readonly kind: 'stdout' | 'headers' | 'message';
  /** What was wrong, as a sentence. */
  readonly account: string;
}

/** What a link tells the client. */
export interface LinkEvents {
  /** One parsed message, or a batch. */
  receive(value: unknown): void;
  /** One request could not be delivered or answered; the link itself goes on. */
  failed(id: RequestId, error: Error): void;
  /** True while a request of this id waits for its answer. */
  isWaiting(id: RequestId): boolean;
  /** The wait for this request’s answer is suspended: a person is signing in. */
  pauses?(id: RequestId, until: Promise<unknown>): void;
  /** What was in flight will not be answered; the link itself works again. */
  interrupted(error: Error): void;
  /** The server has forgotten the session: makes a new one over this same link. Absent when that is not wanted. */
  renew?(): Promise<void>;
  /** The link has ended; with an error when it was not asked to. */
  closed(error?: Error): void;
}

/** The client's end of a transport. */
export interface Link {
  /** Says where it leads, for messages. */
  readonly address: string;
  /** Opens the connection, and gives the way out. */
  start(events: LinkEvents): Promise<Channel>;
  /** Called with the revision both sides agreed on; HTTP sends it in a header from then on. */
  agreed?(revision: Revision): void;
  /** Ends the connection. */
  close(): Promise<void>;
}
