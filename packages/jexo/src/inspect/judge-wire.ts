import { misanswer, misread } from '../protocol/grammar.js';
import { isRevision, newestRevision, type Revision } from '../protocol/revisions.js';
import type { WireEvent } from '../transports/link.js';

interface Message {
  readonly id?: unknown;
  readonly method?: string;
  readonly result?: { readonly protocolVersion?: string };
  readonly params?: { readonly task?: object };
}

/** Follows one connection and says of each message why it is not what the protocol wants; undefined when it is. */
export function createWireJudge(): (event: WireEvent) => string | undefined {
  const methods = new Map<string, string>();
  let revision: Revision = newestRevision;
  const judgeOne = (way: WireEvent['way'], value: unknown): string | undefined => {
    if (typeof value !== 'object' || value === null) return `it is ${value === null ? 'null' : `a ${typeof value}`}, not a message`;
    const message = value as Message;
    const key = (direction: string) => `${direction} ${typeof message.id} ${String(message.id)}`;
    if (message.method !== undefined && message.id !== undefined)
      methods.set(key(way), message.params?.task === undefined || revision !== '2025-11-25' ? message.method : `${message.method}#task`);
    const answered = message.method === undefined ? methods.get(key(way === 'sent' ? 'received' : 'sent')) : undefined;
    if (answered === 'initialize' && isRevision(message.result?.protocolVersion ?? ''))
      revision = message.result!.protocolVersion as Revision;
    const why = misread(revision, way === 'sent' ? 'client' : 'server', value);
    if (why !== undefined) return why;
    return answered !== undefined && message.result !== undefined ? misanswer(revision, answered, message.result) : undefined;
  };
  return ({ way, message }) => {
    if (message === undefined) return undefined; // a status or a header, no message
    if (Array.isArray(message) && revision !== '2025-03-26') return `revision ${revision} has no batches`;
    for (const each of Array.isArray(message) ? message : [message]) {
      const why = judgeOne(way, each);
      if (why !== undefined) return why;
    }
    return undefined;
  };
}
