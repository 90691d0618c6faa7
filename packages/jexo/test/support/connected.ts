import { connect, type Client, type ConnectOptions, type Server } from '../../src/index.js';
import { createJudge } from './judge.js';
import { misread } from '../../src/protocol/grammar.js';
import { newestRevision, type Revision } from '../../src/protocol/revisions.js';

export interface Connected {
  readonly client: Client;
  /** Every message that passed, parsed. */
  readonly messages: readonly {
    readonly way: 'sent' | 'received';
    readonly message: Record<string, unknown> & {
      readonly method?: string;
      readonly params?: Record<string, unknown>;
      readonly result?: Record<string, unknown>;
    };
  }[];
  of(method: string): Record<string, unknown>[];
  /** Closes, and expects every message both ways to fit the protocol's schema and our own grammar. */
  done(): Promise<void>;
}

/** Connects in memory, with every message judged. */
export async function connected(server: Server, options: ConnectOptions & { readonly revision?: Revision } = {}): Promise<Connected> {
  const judge = createJudge();
  const client = await connect(server, { ...options, tap: judge.tap });
  const messages = judge.messages as unknown as Connected['messages'];
  return {
    client,
    messages,
    of: (method) => messages.filter(({ message }) => message.method === method).map(({ message }) => message.params ?? {}),
    async done() {
      await client.close();
      expect(judge.findings).toEqual([]);
      const revision = options.revision ?? newestRevision;
      const ours = messages.slice(1).flatMap(({ way, message }) => misread(revision, way === 'sent' ? 'client' : 'server', message) ?? []);
      expect(ours).toEqual([]);
      expect(judge.seen).toBeGreaterThan(2);
    },
  };
}
