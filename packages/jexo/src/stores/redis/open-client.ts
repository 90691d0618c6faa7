import type { RedisClientType } from 'redis';
import { loadPackage } from '../../optional-package.js';
import type { RedisAddress } from './address.js';

export type Client = RedisClientType;
interface Redis {
  createClient(options: object): Client;
  createCluster(options: object): Client;
  createSentinel(options: object): Client;
}
/** What the queue's library needs where there is more than one server. */
type OtherRedis = {
  new (options: object): { disconnect(): void };
  readonly Cluster: new (nodes: readonly object[], options: object) => { disconnect(): void };
};

const longestWaitMs = 2000;
const reconnectStrategy = (tries: number) => Math.min(25 * 2 ** Math.min(tries, 8), longestWaitMs) * (0.75 + Math.random() / 2);

/** Commands that may wait for their answers; further ones fail at once, so that a Redis that hangs does not fill our memory. */
const mostWaiting = 20_000;

function signIn({ username, password, database }: RedisAddress): object {
  return { ...(username && { username }), ...(password && { password }), ...(database !== undefined && { database }) };
}

/** A client that is not connected yet. One that listens keeps what it is to subscribe to until it is. */
export async function createRedis(address: RedisAddress, isListener: boolean): Promise<Client> {
  const { kind, nodes, main, tls } = address;
  const { createClient, createCluster, createSentinel } = await loadPackage<Redis>('redis');
  const of = (node: object) => ({ ...node, reconnectStrategy, ...(tls && { tls: true }) });
  const shared = { ...signIn(address), disableOfflineQueue: !isListener, commandsQueueMaxLength: mostWaiting, pingInterval: 10_000 };
  if (kind === 'one') return createClient({ ...shared, socket: of(nodes[0]!) });
  if (kind === 'cluster')
    return createCluster({
      rootNodes: nodes.map((node) => ({ socket: of(node) })),
      // A command that comes while a node is found again waits for it.
      defaults: { ...shared, disableOfflineQueue: false, socket: of({}) },
      minimizeConnections: isListener,
    });
  return createSentinel({
    name: main!,
    sentinelRootNodes: nodes,
    nodeClientOptions: { ...shared, disableOfflineQueue: false, socket: of({}) },
    sentinelClientOptions: tls ? { socket: { tls: true } } : {},
    masterPoolSize: 4,
    scanInterval: 2000,
    passthroughClientErrorEvents: true,
  });
}

/** A connection for the queue, and how it is closed. */
export interface QueueClient {
  readonly client: unknown;
  readonly close: () => Promise<void>;
}
/** Whoever uses a connection gets its errors; they need no second listener. */
const heard = <T>(client: T): T => {
  (client as NodeJS.EventEmitter).on('error', () => undefined);
  return client;
};

/** BullMQ takes a connection of the same package to one server; for a cluster or sentinels it needs `ioredis`. */
export async function createForQueue(address: RedisAddress): Promise<QueueClient> {
  const { kind, nodes, main, tls } = address;
  if (kind === 'one') {
    const { createClient } = await loadPackage<Redis>('redis');
    const { createNodeRedisClient } = await loadPackage<{ createNodeRedisClient(client: unknown): unknown }>('bullmq');
    const raw = heard(createClient({ ...signIn(address), socket: { ...nodes[0]!, reconnectStrategy, ...(tls && { tls: true }) } }));
    return { client: heard(createNodeRedisClient(raw)), close: async () => void (raw.isOpen && raw.destroy()) };
  }
  const Other = await loadPackage<OtherRedis>('ioredis');
  const always = { ...signIn(address), maxRetriesPerRequest: null, ...(tls && { tls: {} }) };
  const client = heard(
    kind === 'cluster' ? new Other.Cluster(nodes, { redisOptions: always }) : new Other({ ...always, sentinels: nodes, name: main }),
  );
  return { client, close: async () => client.disconnect() };
}
