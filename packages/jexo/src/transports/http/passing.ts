import type { Clock } from '../../engine/clock.js';
import type { Peer } from '../../engine/peer.js';

/** Peers of one request each, where there are no sessions. */
export interface Passing {
  add(peer: Peer): void;
  /** Its client is gone; false when the request was answered before. */
  gone(peer: Peer): boolean;
  readonly inFlight: number;
  /** True when somebody's client is gone. */
  readonly hasGone: boolean;
  /** Ends those whose client was gone before a time. */
  sweep(before: number): void;
  whenIdle(): Promise<unknown>;
  close(reason: string): void;
}

export function createPassing(clock: Clock): Passing {
  /** With the time since which the client is gone. */
  const peers = new Map<Peer, number>();
  return {
    add(peer) {
      peers.set(peer, Infinity);
      peer.onClose(() => peers.delete(peer));
    },
    gone(peer) {
      if (!peers.has(peer)) return false;
      peers.set(peer, clock.now());
      return true;
    },
    get inFlight() {
      let count = 0;
      for (const peer of peers.keys()) count += peer.inFlight.incoming;
      return count;
    },
    get hasGone() {
      return [...peers.values()].some(Number.isFinite);
    },
    sweep(before) {
      // A client that vanished has not cancelled (Transports, "Sending Messages to the Server"); but nobody can fetch this answer.
      for (const [peer, goneAt] of [...peers]) if (goneAt < before) peer.close('the client is gone');
    },
    whenIdle: () => Promise.all([...peers.keys()].map((peer) => peer.whenIdle())),
    close(reason) {
      for (const peer of [...peers.keys()]) peer.close(reason);
    },
  };
}
