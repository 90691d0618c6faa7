import { setTimeout as pauseFor } from 'node:timers/promises';
import { JexoError } from '../../errors.js';
import type { NeededSetting, Source } from '../../offers/source.js';
import type { JsonSchema } from '../../protocol/json-schema.js';
import { isEnvSetting, readSetting, type EnvSetting, type Setting } from '../setting.js';
import type { LiveAccess, LiveReading, LiveValue } from './live-value.js';
import { faultOfFilter, matchesTopic, pluck, readPayload, type PayloadType } from './payload.js';
import { connectTopics, type TopicClient, type TopicMessage } from './topic-client.js';
import { liveSource, type LiveOptions } from './wrap-live.js';

/** What the values of a topic are. */
export interface TopicDescription {
  /** What it is called. */
  readonly title?: string;
  /** What it is, in a sentence. */
  readonly description?: string;
  /** The unit of its numbers: `kg`. */
  readonly unit?: string;
  /** How payloads are read. Default: JSON if they can be, else text, else bytes. */
  readonly type?: PayloadType;
  /** The field of a JSON payload that is the value: `reading.kg`. */
  readonly field?: string;
  /** The field of a JSON payload with the device's time. */
  readonly time?: string;
  /** Words for its values: `{ 0: 'idle', 1: 'filling' }`. */
  readonly words?: Readonly<Record<string, string>>;
  /** Seconds after which a value that did not come again is stale. Default: never. */
  readonly staleAfter?: number;
}

/** A topic that may be published to. */
export interface TopicToWrite {
  /** What may be published, as JSON Schema. */
  readonly schema: JsonSchema;
  /** What it does, in a sentence. */
  readonly description?: string;
  /** Quality of service. Default 1. */
  readonly qos?: 0 | 1 | 2;
  /** Lets the broker keep it. Default false. */
  readonly retain?: boolean;
}

/** What `wrapTopics` offers of a broker, and how it reaches it. */
export interface WrapTopicsOptions extends LiveOptions {
  /** Topic filters to listen to: `alderwick/+/+/weight`. Default: the path of the URL, or `#`. */
  readonly topics?: readonly string[];
  /** What the values are, by topic filter; the first filter that matches is taken. */
  readonly values?: Readonly<Record<string, TopicDescription>>;
  /** Topics that may be published to, by their exact names. Default: none. */
  readonly publish?: Readonly<Record<string, TopicToWrite>>;
  /** The name for the broker. */
  readonly username?: Setting;
  /** The password for the broker; `env('FEED_PASSWORD')` keeps it out of the code. */
  readonly password?: Setting;
  /** How the client calls itself at the broker. Default: made up at every connection. */
  readonly clientId?: string;
  /** Milliseconds it may take to connect. Default 5000. */
  readonly connectMs?: number;
}

/** Retained messages come at once after the subscription is granted. */
const settleMs = 150;
const mostSettleMs = 1500;

/**
 * Offers the topics of an MQTT broker (3.1.1 and 5): as resources with last value, time and age, which can be subscribed to, and
 * through the tools `read_values` and `history`. Publishing is offered for declared topics alone, and a person confirms it.
 *
 * @param url `mqtt://host:1883/alderwick/#`, also `mqtts://`, `ws://` and `wss://`; `env('FEED_URL')` keeps a password out of the code
 * @throws when it is read: JexoError JEXO_CONNECT, JEXO_SETTING, JEXO_PACKAGE_MISSING, JEXO_DEFINITION for a wrong filter
 * @example
 * wrapTopics('mqtt://127.0.0.1', { topics: ['alderwick/+/+/weight'], values: { 'alderwick/+/+/weight': { unit: 'kg', staleAfter: 1800 } } })
 */
export function wrapTopics(url: string | EnvSetting, options: WrapTopicsOptions = {}): Source {
  const name = options.name ?? 'topics';
  const listened = options.topics ?? (isEnvSetting(url) ? undefined : splitUrl(url).topics);
  for (const filter of [...(listened ?? []), ...Object.keys(options.values ?? {})]) requireFilter(filter);
  for (const topic of Object.keys(options.publish ?? {}))
    if (/[+#]/.test(topic)) throw wrongFilter(topic, 'a topic to publish to has no wildcards');
  const topics = topicAccess(options);
  return liveSource({
    name,
    options: { ...options, name },
    access: topics.access,
    isConnected: topics.isConnected,
    depth: Math.max(1, ...(listened ?? []).map((filter) => filter.split('/').filter((part) => part !== '#').length)),
    async read({ settings, signal, progress }) {
      const address = splitUrl(readSetting(url, 'The address of the broker', settings));
      const filters = options.topics ?? address.topics;
      filters.forEach(requireFilter);
      const { username, password } = options;
      progress(0, undefined, 'connecting to the broker');
      await topics.open(
        {
          url: address.broker,
          filters,
          ...(username !== undefined && { username: readSetting(username, 'The name for the broker', settings) }),
          ...(password !== undefined && { password: readSetting(password, 'The password for the broker', settings) }),
        },
        signal,
      );
      return { settings: settingsOf(url, options), notes: topics.refused.map((why) => `${name}: ${why}.`) };
    },
    close: topics.close,
  });
}

const wrongFilter = (filter: string, why: string) =>
  new JexoError('JEXO_DEFINITION', `${filter || 'An empty text'} is no topic filter: ${why}.`, { where: `topic ${filter}` });

/** @throws JexoError JEXO_DEFINITION */
function requireFilter(filter: string): void {
  const fault = faultOfFilter(filter);
  if (fault !== undefined) throw wrongFilter(filter, fault);
}

/** The broker and the topic filters of a URL: `#` is part of a filter there, not a fragment. */
export function splitUrl(url: string): { readonly broker: string; readonly topics: readonly string[] } {
  const [, broker, path = ''] = /^([a-z][a-z0-9+.-]*:\/\/[^/#?]*)(?:\/(.*))?$/is.exec(url) ?? [];
  if (broker === undefined || !/^(?:mqtts?|wss?):/i.test(broker))
    throw new JexoError('JEXO_DEFINITION', 'The address of a broker begins with mqtt://, mqtts://, ws:// or wss://.', { where: 'url' });
  // Over WebSocket the path is that of the server.
  if (/^wss?:/i.test(broker)) return { broker: url, topics: ['#'] };
  let topic = path;
  try {
    topic = decodeURIComponent(path);
  } catch {
    // a topic with a bare % is taken as it is written
  }
  return { broker, topics: [topic === '' ? '#' : topic] };
}

function settingsOf(url: string | EnvSetting, { name = 'topics', username, password }: WrapTopicsOptions): NeededSetting[] {
  const needed = [
    [url, `the address of the broker of ${name}`],
    [username, `the name for the broker of ${name}`],
    [password, `the password for the broker of ${name}`],
  ] as const;
  return needed.flatMap(([setting, purpose], at) =>
    isEnvSetting(setting) ? [{ variable: setting.variable, purpose, secret: at !== 1 }] : [],
  );
}

interface Address {
  readonly url: string;
  readonly filters: readonly string[];
  readonly username?: string;
  readonly password?: string;
}

/** The topics of a broker as live values. */
// eslint-disable-next-line max-lines-per-function -- the operations share the last messages
function topicAccess({ values = {}, publish = {}, clientId, connectMs = 5000, maxValues = 2000 }: WrapTopicsOptions) {
  const last = new Map<string, LiveReading & { readonly isRetained: boolean }>();
  const faults = new Map<string, string>();
  let refused: string[] = [];
  let client: TopicClient | undefined;
  let connected: string | undefined;
  let push: (path: string, reading: LiveReading) => void = () => undefined;
  let listChanged = () => undefined as void;
  let lastAt = 0;
  const describe = (topic: string): TopicDescription => Object.entries(values).find(([filter]) => matchesTopic(filter, topic))?.[1] ?? {};
  const onMessage = ({ topic, payload, isRetained }: TopicMessage) => {
    lastAt = performance.now();
    const isNew = !last.has(topic);
    // What is beyond the limit is counted by the board, one more is enough for that.
    if (isNew && last.size > maxValues) return;
    try {
      const reading = { ...readingOf(payload, describe(topic)), isRetained };
      last.set(topic, reading);
      faults.delete(topic);
      push(topic, reading);
    } catch (error) {
      faults.set(topic, (error as Error).message);
      if (isNew) last.set(topic, { value: undefined, isRetained });
    }
    if (isNew) listChanged();
  };
  const close = async () => {
    const before = client;
    client = undefined;
    connected = undefined;
    await before?.close();
  };
  const access: LiveAccess = {
    list: () =>
      [...new Set([...Object.keys(values).filter((filter) => !/[+#]/.test(filter)), ...Object.keys(publish), ...last.keys()])]
        .filter((topic) => topic !== '' && !topic.startsWith('/') && !topic.endsWith('/') && !topic.includes('//'))
        .sort()
        .map((path): LiveValue => {
          const { title, description, unit, words, staleAfter } = describe(path);
          const to = Object.hasOwn(publish, path) ? publish[path] : undefined;
          const said = to?.description ?? description;
          return {
            path,
            ...(title !== undefined && { title }),
            ...(said !== undefined && { description: said }),
            ...(unit !== undefined && { unit }),
            ...(words && { words }),
            ...(staleAfter !== undefined && { staleAfter }),
            ...(to && { write: to.schema }),
          };
        }),
    read(path) {
      const fault = faults.get(path);
      if (fault !== undefined) throw new Error(fault);
      return last.get(path) ?? { value: undefined };
    },
    watch(to, changed) {
      push = to;
      listChanged = changed;
      for (const [topic, reading] of last) if (reading.value !== undefined) push(topic, reading);
      return () => {
        push = () => undefined;
        listChanged = () => undefined;
      };
    },
    async write(path, value, signal) {
      const { qos = 1, retain = false } = publish[path]!;
      await client!.publish(
        path,
        describe(path).type === 'text' && typeof value === 'string' ? value : JSON.stringify(value),
        { qos, retain },
        signal,
      );
    },
  };
  return {
    access,
    close,
    isConnected: () => client?.isConnected ?? false,
    get refused() {
      return refused;
    },
    async open(address: Address, signal: AbortSignal) {
      const wanted = JSON.stringify(address);
      if (connected === wanted) return;
      await close();
      refused = [];
      client = await connectTopics(
        { ...address, connectMs, ...(clientId !== undefined && { clientId }), onMessage, onRefused: (why) => refused.push(why) },
        signal,
      );
      connected = wanted;
      // What the broker has kept comes now; the list is read when it has gone quiet.
      const began = performance.now();
      lastAt = began;
      do await pauseFor(settleMs / 3, undefined, { signal });
      while (performance.now() - lastAt < settleMs && performance.now() - began < mostSettleMs);
    },
  };
}

/** @throws Error for a payload that is not what was declared */
function readingOf(payload: Uint8Array, { type, field, time }: TopicDescription): LiveReading {
  const whole = readPayload(payload, type);
  const value = field === undefined ? whole : pluck(whole, field);
  if (value === undefined) throw new Error(`the payload has no field ${field}`);
  const at = time === undefined ? undefined : pluck(whole, time);
  return { value, ...((typeof at === 'string' || typeof at === 'number') && { at }) };
}
