import type { Peer } from '../engine/peer.js';
import { after, type MaybePromise } from '../engine/store.js';
import { errorCodes, RpcError } from '../protocol/json-rpc.js';
import type { ResourceOffer, TemplateOffer } from './offer.js';

export interface Subscriptions {
  add(peer: Peer, uri: string, offer: ResourceOffer | TemplateOffer): void;
  remove(peer: Peer, uri: string): void;
  /** Ends all of one peer's. */
  drop(peer: Peer): void;
  /** @param mayTell asked for each peer, where several processes carry one session and only one may tell it */
  updated(uri: string, mayTell?: (peer: Peer) => MaybePromise<boolean>): void;
}

/** A burst of changes becomes one notice (Server features, "Resources": clients read again after each). */
const burstMs = 20;

/** Resources one client may have subscribed to, and all of them together. */
const mostOfOne = 1000;
const mostOfAll = 100_000;

/**
 * Who has subscribed to which resource. An offer that can watch is watched as long as somebody is.
 * @param mayHear says whether the peer may still know of what it has subscribed to, and of what has changed there
 */
export function createSubscriptions(mayHear: (peer: Peer, subscribed: string, changed: string) => boolean): Subscriptions {
  const byUri = new Map<string, { readonly peers: Set<Peer>; readonly stop: (() => void) | undefined }>();
  const pending = new Map<Peer, Set<string>>();
  const counts = new Map<Peer, number>();
  let total = 0;

  const tell = (peer: Peer, uri: string) => {
    const waiting = pending.get(peer);
    if (waiting !== undefined) return void waiting.add(uri);
    const fresh = new Set([uri]);
    pending.set(peer, fresh);
    peer.clock.after(burstMs, () => {
      pending.delete(peer);
      for (const each of fresh) peer.notify('notifications/resources/updated', { uri: each });
    });
  };
  const updated = (uri: string, mayTell?: (peer: Peer) => MaybePromise<boolean>) => {
    for (const [subscribed, { peers }] of byUri) {
      // The change may lie below what was subscribed to.
      if (uri === subscribed || uri.startsWith(subscribed.endsWith('/') ? subscribed : `${subscribed}/`))
        for (const peer of peers)
          if (mayHear(peer, subscribed, uri)) after(mayTell?.(peer) ?? true, (may) => (may ? tell(peer, uri) : undefined));
    }
  };
  const remove = (peer: Peer, uri: string): void => {
    const known = byUri.get(uri);
    if (known === undefined || !known.peers.delete(peer)) return;
    counts.set(peer, counts.get(peer)! - 1);
    total--;
    if (known.peers.size === 0) {
      byUri.delete(uri);
      known.stop?.();
    }
  };
  return {
    add(peer, uri, offer) {
      let known = byUri.get(uri);
      if (known?.peers.has(peer)) return;
      const own = counts.get(peer) ?? 0;
      if (own >= mostOfOne || total >= mostOfAll)
        throw new RpcError(
          errorCodes.internalError,
          own >= mostOfOne ? `Too many subscriptions: a client may have ${mostOfOne}` : 'Too many subscriptions: try again later',
        );
      if (known === undefined) {
        known = { peers: new Set(), stop: offer.watch?.(() => updated(uri), uri) };
        byUri.set(uri, known);
      }
      known.peers.add(peer);
      counts.set(peer, own + 1);
      total++;
    },
    remove,
    drop(peer) {
      for (const uri of [...byUri.keys()]) remove(peer, uri);
      pending.delete(peer);
      counts.delete(peer);
    },
    updated,
  };
}
