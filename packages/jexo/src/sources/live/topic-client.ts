import { JexoError, messageOf } from '../../errors.js';
import { withoutPassword } from '../../protocol/without-password.js';
import { loadPackage } from '../../optional-package.js';

/** A message of a topic. */
export interface TopicMessage {
  readonly topic: string;
  readonly payload: Uint8Array;
  /** True for the last message before we subscribed. */
  readonly isRetained: boolean;
}

/** A connection to a broker, which is renewed when it is lost. */
export interface TopicClient {
  readonly isConnected: boolean;
  publish(
    topic: string,
    payload: string | Uint8Array,
    how: { readonly qos: 0 | 1 | 2; readonly retain: boolean },
    signal: AbortSignal,
  ): Promise<void>;
  close(): Promise<void>;
}

/** How a broker is reached. */
export interface TopicClientOptions {
  readonly url: string;
  readonly filters: readonly string[];
  readonly username?: string;
  readonly password?: string;
  readonly clientId?: string;
  readonly connectMs: number;
  onMessage(message: TopicMessage): void;
  /** What the broker refused. */
  onRefused(why: string): void;
}

/** The parts of the client library that are used. */
interface Mqtt {
  connect(url: string, options: object): MqttClient;
}
interface MqttClient {
  readonly connected: boolean;
  readonly options: { reconnectPeriod: number };
  on(event: string, listener: (...values: never[]) => void): this;
  off(event: string, listener: (...values: never[]) => void): this;
  subscribe(
    filters: readonly string[],
    options: { qos: 0 | 1 | 2 },
    done: (error: Error | null, granted?: { topic: string; qos: number }[]) => void,
  ): void;
  publish(topic: string, payload: string | Buffer, options: object, done: (error?: Error) => void): void;
  end(force: boolean, options: object, done: () => void): void;
}

const firstRetryMs = 500;
const lastRetryMs = 30_000;

/**
 * Connects to a broker by MQTT 5, or 3.1.1 where it speaks no other, and subscribes.
 *
 * @throws JexoError JEXO_CONNECT when it cannot be reached at first; later it is tried again for ever, with growing pauses
 * @throws JexoError JEXO_PACKAGE_MISSING
 */
export async function connectTopics(options: TopicClientOptions, signal: AbortSignal): Promise<TopicClient> {
  const mqtt = await loadPackage<Mqtt>('mqtt');
  signal.throwIfAborted();
  try {
    return await connectWith(mqtt, 5, options, signal);
  } catch (error) {
    if (!isOtherVersion(error)) throw faultOf(error, options);
  }
  try {
    return await connectWith(mqtt, 4, options, signal);
  } catch (error) {
    throw faultOf(error, options);
  }
}

/** Refused for its version: code 1 of MQTT 3.1.1, 132 of MQTT 5. Some brokers just close the connection. */
const isOtherVersion = (error: unknown) =>
  [1, 132].includes((error as { code?: unknown }).code as number) || /closed before|protocol version/i.test(messageOf(error));

function faultOf(error: unknown, { url }: TopicClientOptions): JexoError {
  const { code } = error as { code?: unknown };
  const isRefused = code === 4 || code === 5 || code === 134 || code === 135;
  return new JexoError(
    'JEXO_CONNECT',
    `The broker ${withoutPassword(url)} ${isRefused ? 'refused the name or password' : 'cannot be reached'}: ${messageOf(error) || String(code)}`,
    {
      where: withoutPassword(url),
      next: isRefused ? 'Check the name and the password.' : 'Check the address, and that the broker is running.',
      cause: error,
    },
  );
}

function connectWith(mqtt: Mqtt, protocolVersion: 4 | 5, options: TopicClientOptions, signal: AbortSignal): Promise<TopicClient> {
  const { url, filters, username, password, clientId, connectMs, onMessage, onRefused } = options;
  const client = mqtt.connect(url, {
    protocolVersion,
    clean: true,
    connectTimeout: connectMs,
    reconnectPeriod: 0,
    resubscribe: false,
    ...(username !== undefined && { username }),
    ...(password !== undefined && { password }),
    ...(clientId !== undefined && { clientId }),
  });
  const end = (force: boolean) => new Promise<void>((resolve) => client.end(force, {}, resolve));
  const subscribe = () =>
    new Promise<void>((resolve) =>
      client.subscribe(filters, { qos: 1 }, (error, granted) => {
        if (error) onRefused(messageOf(error));
        for (const { topic, qos } of granted ?? []) if (qos >= 128) onRefused(`the broker does not let us read ${topic}`);
        resolve();
      }),
    );
  client.on('message', (topic: string, payload: Buffer, packet: { retain: boolean }) =>
    onMessage({ topic, payload, isRetained: packet.retain }),
  );
  return new Promise((resolve, reject) => {
    let isOpen = false;
    const fail = (error: unknown) => {
      signal.removeEventListener('abort', aborted);
      if (isOpen) return;
      void end(true);
      reject(error as Error);
    };
    const aborted = () => fail(signal.reason);
    signal.addEventListener('abort', aborted);
    client.on('error', fail);
    client.on('close', () => {
      if (!isOpen) return fail(new Error('the connection was closed before the broker answered'));
      // Each attempt waits longer; chance keeps many clients from coming back at once.
      client.options.reconnectPeriod = Math.min(lastRetryMs, client.options.reconnectPeriod * 2) * (0.75 + Math.random() / 2);
    });
    client.on('connect', () => {
      client.options.reconnectPeriod = firstRetryMs;
      void subscribe().then(() => {
        if (isOpen) return;
        isOpen = true;
        signal.removeEventListener('abort', aborted);
        resolve({
          get isConnected() {
            return client.connected;
          },
          publish: (topic, payload, how, abort) => publish(client, topic, payload, how, abort),
          close: () => end(true),
        });
      });
    });
  });
}

function publish(client: MqttClient, topic: string, payload: string | Uint8Array, how: object, signal: AbortSignal): Promise<void> {
  if (!client.connected)
    throw new JexoError('JEXO_CONNECT', 'The connection to the broker is lost; nothing was published.', {
      next: 'Try again when it is back.',
    });
  return new Promise((resolve, reject) => {
    const aborted = () => reject(signal.reason as Error);
    signal.addEventListener('abort', aborted, { once: true });
    client.publish(topic, typeof payload === 'string' ? payload : Buffer.from(payload), how, (error) => {
      signal.removeEventListener('abort', aborted);
      if (error)
        reject(new JexoError('JEXO_CONNECT', `The broker did not take the message: ${messageOf(error)}`, { where: topic, cause: error }));
      else resolve();
    });
  });
}
