import type { Client as WsClient } from 'graphql-ws';
import { createParser } from 'eventsource-parser';
import { JexoError, messageOf } from '../../errors.js';
import { pause } from '../../engine/pause.js';
import type { Offer } from '../../offers/offer.js';
import { resource, template } from '../../offers/resource.js';
import { isRecord } from '../../protocol/is-record.js';
import { snakeCase } from '../functions/snake-case.js';
import { loadPackage } from '../../optional-package.js';
import { describeOperation } from './describe-operation.js';
import type { GraphqlContext } from './operation-tool.js';
import type { WrittenOperation } from './read-operations.js';
import { faultWords } from './send-graphql.js';

/** What is known of a stream of events. */
interface Stream {
  /** The last event's data, with the time it came. */
  last?: { readonly at: string; readonly data: unknown };
  fault?: string;
  readonly watchers: Set<() => void>;
  stop(): void;
}

/** How long a reader waits for the first event. */
const firstMs = 5000;
const firstPauseMs = 500;
const longestPauseMs = 30_000;
/** Streams at once. */
const mostStreams = 100;

/** A subscription is a live resource: its last event, and a notification for each. */
export function subscriptionOffers(
  context: GraphqlContext,
  written: readonly WrittenOperation[],
  slug: string,
  url: () => string,
): readonly Offer[] {
  const streams = new Map<string, Stream>();
  const open = (uri: string, operation: WrittenOperation, variables: Readonly<Record<string, unknown>>): Stream => {
    const known = streams.get(uri);
    if (known !== undefined) return known;
    if (streams.size >= mostStreams) throw new JexoError('JEXO_TOO_LARGE', `More than ${mostStreams} subscriptions are followed at once.`);
    const controller = new AbortController();
    const stream: Stream = { watchers: new Set(), stop: () => controller.abort() };
    streams.set(uri, stream);
    const onEvent = (event: unknown) => {
      const { data, errors } = isRecord(event) ? event : { data: undefined, errors: undefined };
      if (Array.isArray(errors) && !isRecord(data)) stream.fault = errors.map((each) => faultWords(each as never)).join('; ');
      else {
        delete stream.fault;
        stream.last = { at: new Date().toISOString(), data };
      }
      for (const each of stream.watchers) each();
    };
    void follow(context, operation, variables, url, onEvent, (why) => (stream.fault = why), controller.signal);
    return stream;
  };
  const watching = (operation: WrittenOperation) => (changed: () => void, uri: string) => {
    const stream = open(uri, operation, variablesOf(operation, uri));
    stream.watchers.add(changed);
    return () => {
      stream.watchers.delete(changed);
      if (stream.watchers.size > 0) return;
      stream.stop();
      streams.delete(uri);
    };
  };
  const read = async (operation: WrittenOperation, uri: string, signal: AbortSignal) => {
    // Every reader holds the stream, so that one that is done does not end it for another.
    const stop = watching(operation)(() => undefined, uri);
    const stream = streams.get(uri)!;
    try {
      const until = Date.now() + firstMs;
      while (stream.last === undefined && stream.fault === undefined && Date.now() < until) await pause(25, signal);
      if (stream.last === undefined && stream.fault !== undefined)
        throw new JexoError('JEXO_REST', `The subscription failed: ${stream.fault}`, { where: uri });
      return stream.last ?? { note: 'Nothing has happened yet.' };
    } finally {
      stop();
    }
  };
  return written.map((each) => {
    const name = snakeCase(each.name);
    const variables = (each.operation.variableDefinitions ?? []).map(({ variable }) => variable.name.value);
    const description = describeOperation(context.g, context.schema, each);
    const base = `${slug}://live/${name}`;
    if (variables.length === 0)
      return resource(
        base,
        { name, description, mimeType: 'application/json', watch: (changed) => watching(each)(changed, base) },
        ({ uri }, call) => read(each, uri, call.signal),
      );
    return template<string>(
      `${base}{?${variables.join(',')}}`,
      { name, description, mimeType: 'application/json', watch: watching(each) },
      (_variables, call, { uri }) => read(each, uri, call.signal),
    );
  });
}

/** The variables of a subscription, as its URI gives them. @throws JexoError JEXO_INPUT_INVALID */
function variablesOf({ operation }: WrittenOperation, uri: string): Record<string, unknown> {
  const given = new URLSearchParams(uri.split('?')[1] ?? '');
  const found: Record<string, unknown> = {};
  for (const { variable, type, defaultValue } of operation.variableDefinitions ?? []) {
    const name = variable.name.value;
    const text = given.get(name);
    const named = type.kind === 'NonNullType' ? type.type : type;
    const isWanted = type.kind === 'NonNullType' && defaultValue === undefined;
    if (text === null) {
      if (isWanted) throw new JexoError('JEXO_INPUT_INVALID', `The subscription needs ${name}: write it as ?${name}=…`, { where: uri });
      continue;
    }
    const kind = named.kind === 'NamedType' ? named.name.value : undefined;
    found[name] = kind === 'Int' || kind === 'Float' ? Number(text) : kind === 'Boolean' ? text === 'true' : text;
  }
  return found;
}

type Follow = (onEvent: (event: unknown) => void, signal: AbortSignal) => Promise<void>;

/** Follows a stream until it is stopped; one that is lost is begun again, with growing pauses. */
async function follow(
  context: GraphqlContext,
  { text, name }: WrittenOperation,
  variables: Readonly<Record<string, unknown>>,
  url: () => string,
  onEvent: (event: unknown) => void,
  onFault: (why: string) => void,
  signal: AbortSignal,
): Promise<void> {
  const body = { query: text, operationName: name, ...(Object.keys(variables).length > 0 && { variables }) };
  let wait = firstPauseMs;
  while (!signal.aborted) {
    try {
      const address = url();
      const run: Follow = /^ws/i.test(address) ? overSocket(context, address, body) : overEvents(context, address, body);
      await run((event) => {
        wait = firstPauseMs;
        onEvent(event);
      }, signal);
      return; // the service has ended it: nothing more comes
    } catch (error) {
      if (signal.aborted) return;
      onFault(context.upstream.clean(messageOf(error)));
    }
    await pause(wait * (0.75 + Math.random() / 2), signal).catch(() => undefined);
    wait = Math.min(longestPauseMs, wait * 2);
  }
}

/** One request answered by server-sent events: `next` and `complete`. */
function overEvents({ upstream }: GraphqlContext, url: string, body: object): Follow {
  return async (onEvent, signal) => {
    const headers = {
      'Content-Type': 'application/json',
      Accept: 'text/event-stream',
      ...upstream.headers(),
      ...(await upstream.proof(signal)),
    };
    const response = await fetch(url, { method: 'POST', headers, body: JSON.stringify(body), signal, redirect: 'error' });
    const type = response.headers.get('content-type') ?? '';
    if (!response.ok || !type.includes('text/event-stream') || response.body === null) {
      await response.body?.cancel();
      throw new Error(`${upstream.title} answered HTTP ${response.status} ${type} where a stream of events was wanted`);
    }
    let isComplete = false;
    const parser = createParser({
      onEvent({ event, data }) {
        if (event === 'complete') isComplete = true;
        else if (data !== '' && (event === 'next' || event === undefined)) onEvent(JSON.parse(data));
      },
    });
    const decoder = new TextDecoder();
    for await (const chunk of response.body as unknown as AsyncIterable<Uint8Array>) {
      parser.feed(decoder.decode(chunk, { stream: true }));
      if (isComplete) return;
    }
    throw new Error(`${upstream.title} has cut the stream`);
  };
}

interface WsLibrary {
  createClient(options: object): WsClient;
}

/** The `graphql-transport-ws` protocol. */
function overSocket({ upstream }: GraphqlContext, url: string, body: { query: string; operationName: string; variables?: object }): Follow {
  return async (onEvent, signal) => {
    const { createClient } = await loadPackage<WsLibrary>('graphql-ws');
    const webSocketImpl = (globalThis as { WebSocket?: unknown }).WebSocket ?? (await loadPackage('ws'));
    const connectionParams = { ...upstream.headers(), ...(await upstream.proof(signal)) };
    const client = createClient({ url, webSocketImpl, connectionParams, retryAttempts: 0, lazy: true });
    try {
      await new Promise<void>((resolve, reject) => {
        const stop = client.subscribe(body as never, {
          next: onEvent,
          complete: () => resolve(),
          error: (why: unknown) => reject(new Error(socketFault(why))),
        });
        signal.addEventListener('abort', stop, { once: true });
      });
    } finally {
      await client.dispose();
    }
  };
}

function socketFault(why: unknown): string {
  if (Array.isArray(why)) return why.map((each) => faultWords(each as never)).join('; ');
  if (isRecord(why) && typeof why.code === 'number')
    return `the connection was closed (${why.code}${why.reason ? ` ${String(why.reason)}` : ''})`;
  return messageOf(why);
}
