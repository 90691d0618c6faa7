import { jest } from '@jest/globals';
import fc from 'fast-check';
import { Peer, type RequestHandler } from '../../src/engine/peer.js';
import type { JsonRpcMessage, JsonRpcRequest } from '../../src/protocol/json-rpc.js';
import { manualClock } from '../support/manual-clock.js';

/** A client and a server that talk through two queues, so that a test decides when what arrives. */
function pair(requests: Record<string, RequestHandler>, clock = manualClock()) {
  const toServer: unknown[] = [];
  const toClient: unknown[] = [];
  const faults: string[] = [];
  const stray: string[] = [];
  const copy = (into: unknown[]) => ({ send: (message: unknown) => void into.push(JSON.parse(JSON.stringify(message))) });
  const client = new Peer({ role: 'client', outlet: copy(toServer), clock, requests: new Map(), onStray: (why) => void stray.push(why) });
  const server = new Peer({
    role: 'server',
    outlet: copy(toClient),
    clock,
    requests: new Map(Object.entries(requests)),
    onFault: (error, reference) => void faults.push(`${reference} ${String(error)}`),
  });
  for (const peer of [client, server]) peer.begin({ revision: '2025-11-25' });
  const flush = async () => {
    for (let turn = 0; turn < 20; turn++) {
      while (toServer.length > 0) server.receive(toServer.shift());
      while (toClient.length > 0) client.receive(toClient.shift());
      await Promise.resolve();
    }
  };
  return { client, server, toServer, toClient, faults, stray, clock, flush };
}

test('a request gets its own answer, and an error keeps its code', async () => {
  const { client, flush } = pair({ echo: (params) => params });
  const answer = client.request('echo', { hive: 'MR-03' });
  const missing = client.request('nothing');
  await flush();
  await expect(answer).resolves.toEqual({ hive: 'MR-03' });
  await expect(missing)
    .rejects.toMatchObject({ code: -32601 })
    .catch(() => undefined);
  await expect(missing).rejects.toThrow('Method not found');
});

test('[MCP-042] a cancelled request stops its handler and is not answered', async () => {
  let signal: AbortSignal | undefined;
  const { client, server, toClient, flush } = pair({
    slow: (_params, exchange) => {
      signal = exchange.signal;
      return new Promise((resolve) => exchange.signal.addEventListener('abort', () => resolve({ late: true })));
    },
  });
  const stop = new AbortController();
  const answer = client.request('slow', {}, { signal: stop.signal });
  await flush();
  stop.abort();
  await expect(answer).rejects.toMatchObject({ code: 'JEXO_CANCELLED' });
  await flush();
  expect(signal?.aborted).toBe(true);
  expect(toClient).toEqual([]);
  expect(server.inFlight.incoming).toBe(0);
});

test('[MCP-034] a timeout cancels the request on the other side', async () => {
  const { client, toServer, clock } = pair({});
  const answer = client.request('slow', {}, { timeoutMs: 100 });
  const caught = answer.catch((error: unknown) => error);
  clock.advance(100);
  expect(await caught).toMatchObject({ code: 'JEXO_TIMEOUT' });
  expect(toServer.at(-1)).toMatchObject({ method: 'notifications/cancelled', params: { requestId: 1 } });
  expect(clock.pending).toBe(0);
});

test('[MCP-035] progress extends the wait, up to the maximum', async () => {
  const { client, clock } = pair({});
  const seen: number[] = [];
  const answer = client.request('slow', {}, { timeoutMs: 100, maxTimeoutMs: 250, onProgress: ({ progress }) => void seen.push(progress) });
  const caught = answer.catch((error: unknown) => error);
  for (let step = 1; step <= 2; step++) {
    clock.advance(90);
    client.receive({ jsonrpc: '2.0', method: 'notifications/progress', params: { progressToken: 1, progress: step } });
  }
  clock.advance(69);
  expect(client.inFlight.outgoing).toBe(1);
  clock.advance(2);
  expect(await caught).toMatchObject({ code: 'JEXO_TIMEOUT' });
  expect(seen).toEqual([1, 2]);
});

test('[MCP-047] [MCP-049] [MCP-050] progress only grows, is thinned in bursts and stops with the answer', async () => {
  let late = () => {};
  const { client, flush, clock } = pair({
    work: (_params, exchange) => {
      for (const value of [1, 2, 2, 1, 3, 4]) exchange.progress(value, 10, `step ${value}`);
      late = () => exchange.progress(9);
      return new Promise((resolve) => clock.after(10, () => resolve({})));
    },
  });
  const seen: unknown[] = [];
  const answer = client.request('work', {}, { onProgress: (update) => void seen.push(update) });
  await flush();
  clock.advance(10);
  await flush();
  await answer;
  late();
  await flush();
  expect(seen).toEqual([
    { progress: 1, total: 10, message: 'step 1' },
    { progress: 4, total: 10, message: 'step 4' },
  ]);
  clock.advance(120_000);
  expect(clock.pending).toBe(0);
});

test('[MCP-005] 1 and "1" are different ids', async () => {
  const { server, toClient, flush } = pair({ echo: (params) => params });
  server.receive({ jsonrpc: '2.0', id: 1, method: 'echo', params: { a: 1 } });
  server.receive({ jsonrpc: '2.0', id: '1', method: 'echo', params: { a: 2 } });
  expect(toClient).toEqual([
    { jsonrpc: '2.0', id: 1, result: { a: 1 } },
    { jsonrpc: '2.0', id: '1', result: { a: 2 } },
  ]);
  await flush();
});

test('a handler that throws tells the operator, and the other side only a reference', async () => {
  const { client, faults, flush } = pair({
    bad: () => {
      throw new Error('password=12345 at /srv/app.js:3');
    },
  });
  const answer = client.request('bad').catch((error: unknown) => error);
  await flush();
  const error = (await answer) as Error & { code: number };
  expect(error.code).toBe(-32603);
  expect(error.message).not.toContain('password');
  const reference = /reference ([0-9a-f]{6})/.exec(error.message)?.[1];
  expect(faults).toEqual([expect.stringContaining(`${reference} Error: password`)]);
});

test('before initialize a server answers nothing but initialize and ping', () => {
  const send = jest.fn<(message: unknown) => void>();
  const server = new Peer({ role: 'server', outlet: { send }, clock: manualClock(), requests: new Map([['ping', () => ({})]]) });
  server.receive({ jsonrpc: '2.0', id: 1, method: 'tools/list' });
  server.receive({ jsonrpc: '2.0', id: 2, method: 'ping' });
  expect(send.mock.calls.map(([message]) => message)).toMatchObject([
    { id: 1, error: { code: -32600 } },
    { id: 2, result: {} },
  ]);
});

test('[MCP-013] [MCP-015] batches exist in 2025-03-26 alone, without initialize', () => {
  const { server, toClient } = pair({ echo: (params) => params });
  const batch = [
    { jsonrpc: '2.0', id: 1, method: 'echo' },
    { jsonrpc: '2.0', method: 'notifications/unknown' },
    { jsonrpc: '2.0', id: 2, method: 'nothing' },
  ];
  server.receive(batch);
  expect(toClient.shift()).toMatchObject({ error: { code: -32600 } });
  server.begin({ revision: '2025-03-26' });
  server.receive(batch);
  expect(toClient.shift()).toMatchObject([
    { id: 1, result: {} },
    { id: 2, error: { code: -32601 } },
  ]);
  server.receive([]);
  expect(toClient.shift()).toMatchObject({ error: { code: -32600 } });
  server.receive([{ jsonrpc: '2.0', id: 3, method: 'initialize' }]);
  expect(toClient.shift()).toMatchObject({ error: { code: -32600 } });
  server.receive([{ jsonrpc: '2.0', method: 'notifications/unknown' }]);
  expect(toClient).toEqual([]);
});

test('two peers never send errors about errors for ever', () => {
  const { client, server, toClient, toServer, stray } = pair({});
  server.receive({ nonsense: true });
  client.receive(toClient.shift());
  client.receive({ jsonrpc: '2.0', id: 99, result: 'no object' });
  expect(toServer).toEqual([]);
  expect(stray).toHaveLength(2);
});

test('closing fails what waits and stops what runs', async () => {
  let signal: AbortSignal | undefined;
  const { client, server, flush } = pair({
    slow: (_params, exchange) => {
      signal = exchange.signal;
      return new Promise(() => {});
    },
  });
  const answer = client.request('slow').catch((error: unknown) => error);
  await flush();
  server.close('gone');
  client.close('gone');
  expect(await answer).toMatchObject({ code: 'JEXO_CLOSED' });
  expect(signal?.aborted).toBe(true);
  await expect(client.request('slow')).rejects.toMatchObject({ code: 'JEXO_CLOSED' });
});

test('[MCP-039] [MCP-048] only what is in flight is cancelled, and progress names only what is active', async () => {
  let late = () => {};
  const { client, toServer, toClient, flush, clock } = pair({
    work: (_params, exchange) => {
      late = () => exchange.progress(5);
      exchange.progress(1);
      return {};
    },
  });
  const stop = new AbortController();
  const answer = client.request('work', {}, { signal: stop.signal, onProgress: () => undefined });
  await flush();
  await answer;
  stop.abort();
  // Long after the last notice: what is held back by thinning would have left by now.
  clock.advance(60_000);
  late();
  clock.advance(60_000);
  expect([toServer, toClient]).toEqual([[], []]);
  const silent = client.request('work');
  await flush();
  await silent;
  expect(toClient).toEqual([]);
});

type Step = {
  readonly kind: 'request' | 'finish' | 'cancel' | 'progress' | 'deliver-up' | 'deliver-down' | 'notify';
  readonly pick: number;
};

test('any interleaving leaves nothing pending and no answer with the wrong request', async () => {
  const step: fc.Arbitrary<Step> = fc.record({
    kind: fc.constantFrom('request', 'finish', 'cancel', 'progress', 'deliver-up', 'deliver-down', 'notify'),
    pick: fc.nat(20),
  });
  await fc.assert(
    fc.asyncProperty(fc.array(step, { maxLength: 60 }), async (steps) => {
      const running: { tag: unknown; resolve: (value: object) => void; progress: (value: number) => void }[] = [];
      const { client, server, toServer, toClient, flush, clock } = pair({
        work: (params, exchange) =>
          new Promise((resolve) => running.push({ tag: params.tag, resolve, progress: (value) => exchange.progress(value) })),
      });
      const asked: { tag: number; stop: AbortController; outcome: Promise<unknown>; progress: number[] }[] = [];
      for (const { kind, pick } of steps) {
        if (kind === 'request') {
          const stop = new AbortController();
          const progress: number[] = [];
          const tag = asked.length;
          const outcome = client.request(
            'work',
            { tag },
            { signal: stop.signal, onProgress: (update) => void progress.push(update.progress) },
          );
          asked.push({ tag, stop, progress, outcome: outcome.catch((error: { code: string }) => error.code) });
        } else if (kind === 'finish' && running.length > 0) {
          const [work] = running.splice(pick % running.length, 1);
          work!.resolve({ tag: work!.tag });
        } else if (kind === 'cancel' && asked.length > 0) asked[pick % asked.length]!.stop.abort();
        else if (kind === 'progress' && running.length > 0) running[pick % running.length]!.progress(pick);
        else if (kind === 'deliver-up' && toServer.length > 0) server.receive(toServer.shift());
        else if (kind === 'deliver-down' && toClient.length > 0) client.receive(toClient.shift());
        else if (kind === 'notify') server.notify('notifications/tools/list_changed');
        await Promise.resolve();
      }
      await flush();
      while (running.length > 0) {
        const work = running.pop()!;
        work.resolve({ tag: work.tag });
      }
      await flush();
      for (const { tag, outcome, progress } of asked) {
        const settled = await outcome;
        expect(settled === 'JEXO_CANCELLED' || (settled as { tag: number }).tag === tag).toBe(true);
        expect(progress).toEqual([...new Set(progress)].sort((a, b) => a - b));
      }
      expect(client.inFlight).toEqual({ incoming: 0, outgoing: 0 });
      expect(server.inFlight).toEqual({ incoming: 0, outgoing: 0 });
      clock.advance(1);
      expect(clock.pending).toBe(0);
    }),
    { numRuns: 200 },
  );
});

test('a request may be sent through the channel of the one it belongs to', async () => {
  const sent: JsonRpcMessage[] = [];
  const { server } = pair({ ask: (_params, exchange) => exchange.request('roots/list', undefined) });
  server.receive({ jsonrpc: '2.0', id: 'a', method: 'ask' }, { send: (message) => void sent.push(message as JsonRpcMessage) });
  expect(sent).toMatchObject([{ method: 'roots/list' }]);
  server.receive({ jsonrpc: '2.0', id: (sent[0] as JsonRpcRequest).id, result: { roots: [] } });
  await Promise.resolve();
  await Promise.resolve();
  expect(sent[1]).toMatchObject({ id: 'a', result: { roots: [] } });
});
