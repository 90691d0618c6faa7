import { createHash } from 'node:crypto';
import { pause } from '../../engine/pause.js';
import { JexoError, messageOf } from '../../errors.js';
import { loadPackage } from '../../optional-package.js';
import type { RedisAddress } from './address.js';
import { createForQueue, createRedis, type Client, type QueueClient } from './open-client.js';
import { scripts, type ScriptName } from './scripts.js';

/** How a Redis is reached. */
export interface ConnectionOptions {
  /** Milliseconds that one command may take before it fails; what waits for it then does without, or says so. */
  readonly commandTimeoutMs: number;
  readonly onFault: (error: unknown) => void;
}

const closeMs = 1000;

const digests = Object.fromEntries(
  Object.entries(scripts).map(([name, text]) => [name, createHash('sha1').update(text).digest('hex')]),
) as Record<ScriptName, string>;

/** Two connections to one Redis: one for commands, one that hears what is published. Lost ones come back by themselves. */
export class RedisConnection {
  private commands: Promise<Client> | undefined;
  private listener: Promise<Client> | undefined;
  private readonly listeners = new Map<string, Set<(message: string) => void>>();
  /** Subscriptions that are not confirmed yet: what is read after them must not miss what is published meanwhile. */
  private readonly pending = new Set<Promise<unknown>>();
  private reachable: boolean | undefined;
  private isClosed = false;
  /** What a connection has last failed for. */
  private trouble = '';
  private readonly made = new Set<Client>();
  private loaded: Promise<unknown> | undefined;
  private active = 0;
  /** Called when what was published may have been missed. */
  onGap: () => void = () => {};

  constructor(
    private readonly address: RedisAddress,
    private readonly options: ConnectionOptions,
  ) {}

  /** False from when a command or the connection has failed, until the next one works. Undefined before the first. */
  get isReachable(): boolean | undefined {
    return this.reachable;
  }

  /**
   * Runs a command once what has been subscribed to is confirmed.
   * @param patience how many times the usual time it may take: nobody waits for what is only written down
   * @throws JexoError JEXO_STORE
   */
  async run<T>(command: (client: Client) => Promise<T>, patience = 1): Promise<T> {
    // Loading the package is no fault of the Redis.
    await (this.loaded ??= loadPackage('redis').catch((error: unknown) => {
      this.loaded = undefined;
      throw error;
    }));
    let timer: NodeJS.Timeout | undefined;
    this.active++;
    const late = new Promise<never>((_, reject) => {
      const ms = this.options.commandTimeoutMs * patience;
      timer = setTimeout(() => reject(new Error(`it has not answered within ${ms} ms${this.trouble}`)), ms);
    });
    late.catch(() => undefined);
    try {
      const work = (async () => {
        if (this.pending.size > 0) await Promise.all(this.pending);
        return command(await this.client());
      })();
      work.catch(() => undefined); // it may fail when nobody waits any more
      const found = await Promise.race([work, late]);
      this.reachable = true;
      return found;
    } catch (error) {
      this.reachable = false;
      throw this.failed(error);
    } finally {
      clearTimeout(timer);
      this.active--;
    }
  }

  /** Runs a script, which is sent whole only where it is not known yet. */
  script(name: ScriptName, keys: string[], values: (string | number)[], patience = 1): Promise<unknown> {
    const options = { keys, arguments: values.map(String) };
    return this.run(async (client) => {
      try {
        return await client.evalSha(digests[name], options);
      } catch (error) {
        if (!messageOf(error).includes('NOSCRIPT')) throw error;
        return client.eval(scripts[name], options);
      }
    }, patience);
  }

  /** @returns how many connections have heard it */
  publish(topic: string, message: string, patience: number): Promise<number> {
    return this.run((client) => (this.isSharded ? client.sPublish(topic, message) : client.publish(topic, message)), patience);
  }

  subscribe(topic: string, hear: (message: string) => void): () => void {
    let hearing = this.listeners.get(topic);
    if (hearing === undefined) {
      this.listeners.set(topic, (hearing = new Set()));
      this.track(this.listen(topic));
    }
    hearing.add(hear);
    return () => {
      if (!hearing.delete(hear) || hearing.size > 0 || this.listeners.get(topic) !== hearing) return;
      this.listeners.delete(topic);
      this.hearer()
        .then((client) => (this.listeners.has(topic) ? undefined : this.isSharded ? client.sUnsubscribe(topic) : client.unsubscribe(topic)))
        .catch(() => undefined); // there is nothing to unsubscribe from any more
    };
  }

  async close(): Promise<void> {
    // What is under way may want to write once more.
    for (const end = Date.now() + closeMs; this.active > 0 && Date.now() < end;) await pause(5);
    this.isClosed = true;
    for (const client of this.made) {
      if (client.isReady ?? client.isOpen) {
        // What is under way is answered first, but not waited for without end.
        const closing = Promise.resolve(client.close()).catch(() => undefined);
        await Promise.race([closing, pause(closeMs)]);
      }
      // One that has never been reached tries on until it is told not to.
      if (client.isOpen) client.destroy();
    }
  }

  private track(work: Promise<unknown>): void {
    const settled = work
      .catch((error: unknown) => this.isClosed || this.options.onFault(this.failed(error)))
      .finally(() => this.pending.delete(settled));
    this.pending.add(settled);
  }

  private async listen(topic: string): Promise<void> {
    const client = await this.hearer();
    const heard = (message: string) => {
      for (const hear of [...(this.listeners.get(topic) ?? [])]) hear(message);
    };
    await (this.isSharded ? client.sSubscribe(topic, heard) : client.subscribe(topic, heard));
  }

  /** In a cluster the node of a topic alone carries it, so that it knows who listens. */
  private get isSharded(): boolean {
    return this.address.kind === 'cluster';
  }

  private client(): Promise<Client> {
    return (this.commands ??= this.open(false).catch((error: unknown) => {
      this.commands = undefined;
      throw error;
    }));
  }

  private hearer(): Promise<Client> {
    return (this.listener ??= this.open(true).catch((error: unknown) => {
      this.listener = undefined;
      throw error;
    }));
  }

  private async open(isListener: boolean): Promise<Client> {
    if (this.isClosed) throw new Error('the store is closed');
    const client = await createRedis(this.address, isListener);
    this.made.add(client);
    let wasReady = false;
    client.on('error', (error: unknown) => {
      if (this.reachable !== false && wasReady) this.options.onFault(this.failed(error));
      this.trouble = `, because of this: ${messageOf(error)}`;
      this.reachable = false;
    });
    client.on('ready', () => {
      this.trouble = '';
      this.reachable = true;
      // It was away: what others said meanwhile is gone.
      if (isListener && wasReady) this.onGap();
      wasReady = true;
    });
    // What a node of several said while it was away is gone too.
    if (isListener) for (const event of ['node-reconnecting', 'topology-change']) client.on(event, () => wasReady && this.onGap());
    await client.connect();
    wasReady = true;
    return client;
  }

  /** A connection of its own, for what waits on it. */
  async forQueue(): Promise<QueueClient> {
    // What cannot be reached says so, where the queue would wait for ever.
    await this.run((client) => client.get('jexo'));
    return createForQueue(this.address);
  }

  /** @returns JEXO_STORE, with the address */
  failed(error: unknown): JexoError {
    const where = this.address.shown;
    return new JexoError('JEXO_STORE', `The store ${where} cannot be used: ${messageOf(error).replace(/\.$/, '')}.`, {
      where,
      cause: error,
    });
  }
}
