import { systemClock, type Clock } from '../engine/clock.js';
import type { Channel } from '../engine/exchange.js';
import type { Peer } from '../engine/peer.js';
import type { Servable } from '../engine/servable.js';
import { byteLength } from '../protocol/byte-length.js';
import { encode } from '../protocol/json-rpc.js';
import { printFault } from '../engine/faults.js';
import { safeTap, wireTime, type Link, type WireTap } from './link.js';

/** A link to a server in the same process. Messages are serialised all the same, so that nothing passes here that would not pass elsewhere. */
export function memoryLink(
  server: Servable,
  options: {
    readonly clock?: Clock;
    readonly tap?: WireTap;
    readonly onFault?: (error: unknown, reference: string) => void;
    /** True closes the server with the link: nobody else has it. */
    readonly owns?: boolean;
  } = {},
): Link {
  const { clock = systemClock, onFault } = options;
  const tap = options.tap && safeTap(options.tap, onFault ?? printFault);
  let peer: Peer | undefined;
  return {
    address: `${server.info.name} (in memory)`,
    async start(events) {
      const carry = (way: 'sent' | 'received', deliver: (value: unknown) => void): Channel => ({
        send(message) {
          const text = encode(message);
          const value: unknown = JSON.parse(text);
          tap?.({ at: wireTime(), way, bytes: byteLength(text), message: value });
          queueMicrotask(() => deliver(value));
        },
      });
      const toClient = carry('received', (value) => events.receive(value));
      peer = server.open({ outlet: toClient, clock, caller: { transport: 'memory' }, ...(onFault && { onFault }) });
      peer.onClose(() => events.closed());
      return carry('sent', (value) => peer!.receive(value, toClient));
    },
    async close() {
      peer?.close('the client has left');
      if (options.owns === true) await server.close();
    },
  };
}
