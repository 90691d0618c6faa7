import { z } from 'zod';
import { defineServer, resource, serveHttp, tool, type HttpService, type ServeHttpOptions } from '../../src/index.js';
import { texts, textStore, type Texts } from './text-store.js';

/** Each process has a server of its own; only the texts are shared. */
function apiary(callsPerMinute?: number) {
  const finish: ((kg: number) => void)[] = [];
  const server = defineServer({
    name: 'apiary',
    version: '1.0.0',
    ...(callsPerMinute !== undefined && { callsPerMinute }),
    offers: [
      tool('who', {}, (_input, call) => `${call.session.client?.name} ${call.session.revision} ${call.caller.identity ?? 'nobody'}`),
      tool('move_hive', {}, async (_input, call) => {
        const { to } = await call.ask('Where to?', z.object({ to: z.string() }));
        return `moved to ${to}`;
      }),
      tool('weigh', {}, async (_input, call) => {
        call.log('info', 'weighing');
        const kg = await new Promise<number>((resolve) => finish.push(resolve));
        return `${kg} kg`;
      }),
      tool('season', { taskSupport: 'optional' }, async () => `${await new Promise<number>((resolve) => finish.push(resolve))} kg`),
      resource('scale://MR-03', {}, () => '31 kg'),
    ],
  });
  return { server, finish };
}

const open: HttpService[] = [];
afterEach(async () => {
  await Promise.all(open.splice(0).map((service) => service.close()));
});
async function process(shared: Texts, options: ServeHttpOptions = {}, callsPerMinute?: number) {
  const own = apiary(callsPerMinute);
  const service = await serveHttp(own.server, { store: textStore(shared), graceMs: 50, ...options });
  open.push(service);
  return { ...own, service, url: service.url };
}

const usual = { 'content-type': 'application/json', accept: 'application/json, text/event-stream' };
type Headers = Record<string, string>;
const post = (url: string, headers: Headers, message: object) =>
  fetch(url, { method: 'POST', headers: { ...usual, ...headers }, body: JSON.stringify({ jsonrpc: '2.0', ...message }) });
async function begin(url: string, headers: Headers = {}, capabilities: object = { elicitation: {} }): Promise<Headers> {
  const params = { protocolVersion: '2025-11-25', capabilities, clientInfo: { name: 'desk', version: '1' } };
  const response = await post(url, headers, { id: 1, method: 'initialize', params });
  await response.text();
  const session = { ...headers, 'mcp-session-id': response.headers.get('mcp-session-id')! };
  await post(url, session, { method: 'notifications/initialized' });
  return session;
}
const called = (name: string, more: object = {}) => ({ id: 2, method: 'tools/call', params: { name, arguments: {}, ...more } });
const textOf = async (response: Response) => {
  const body = await response.text();
  const data = /^data: (.+)$/m.exec(body)?.[1] ?? body;
  return (JSON.parse(data) as { result: { content: { text: string }[] } }).result.content[0]!.text;
};
/** Reads a stream until its text fits, and gives what came, with the id of the last event. */
async function until(
  response: Response,
  fits: RegExp,
): Promise<{ text: string; lastId: string; cut(): Promise<void>; rest(): Promise<string> }> {
  const reader = response.body!.pipeThrough(new TextDecoderStream()).getReader();
  let text = '';
  while (!fits.test(text)) {
    const { done, value } = await reader.read();
    if (done) throw new Error(`The stream ended with: ${text}`);
    text += value;
  }
  return {
    text,
    lastId: [...text.matchAll(/^id: (.+)$/gm)].at(-1)![1]!,
    cut: () => reader.cancel(),
    async rest() {
      for (let part = await reader.read(); !part.done; part = await reader.read()) text += part.value;
      return text;
    },
  };
}

test('a session that was begun in one process goes on in another, with what the client said of itself', async () => {
  const shared = texts();
  const [one, two] = [await process(shared), await process(shared)];
  const session = await begin(one.url);
  expect(await textOf(await post(two.url, session, called('who')))).toBe('desk 2025-11-25 nobody');
  // The first one may be gone by then.
  await one.service.close();
  expect(await textOf(await post(two.url, session, called('who')))).toBe('desk 2025-11-25 nobody');
});

test('a session that ends in one process is over in all', async () => {
  const shared = texts();
  const [one, two] = [await process(shared), await process(shared)];
  const session = await begin(one.url);
  await textOf(await post(two.url, session, called('who')));
  expect((await fetch(one.url, { method: 'DELETE', headers: session })).status).toBe(204);
  await new Promise((resolve) => setImmediate(() => setImmediate(resolve)));
  expect((await post(two.url, session, called('who'))).status).toBe(404);
  expect([...shared.values.keys()].filter((key) => key.startsWith('session'))).toEqual([]);
});

test('an answer to a question of one process may be posted to another', async () => {
  const shared = texts();
  const [one, two] = [await process(shared), await process(shared)];
  const session = await begin(one.url);
  const asking = await until(await post(one.url, session, called('move_hive')), /elicitation\/create/);
  const { id } = JSON.parse(/^data: (.*elicitation.*)$/m.exec(asking.text)![1]!) as { id: string };
  const answer = await post(two.url, session, { id, result: { action: 'accept', content: { to: 'Heather Lane' } } });
  expect(answer.status).toBe(202);
  expect(await asking.rest()).toContain('moved to Heather Lane');
});

test('a stream that was cut in one process is resumed in another, and nothing is lost or doubled', async () => {
  const shared = texts();
  const [one, two] = [await process(shared), await process(shared)];
  const session = await begin(one.url);
  const first = await until(await post(one.url, session, called('weigh')), /weighing/);
  await first.cut();
  const headers = { ...session, accept: 'text/event-stream', 'last-event-id': first.lastId };
  const resumed = await fetch(two.url, { headers });
  expect(resumed.status).toBe(200);
  while (one.finish.length === 0) await new Promise((resolve) => setImmediate(resolve));
  one.finish[0]!(31);
  const text = await resumed.text();
  expect(text.match(/31 kg/g)).toHaveLength(1);
  expect(text).not.toContain('weighing');
});

test('unasked-for messages reach the client over whichever process holds its stream, also those from before', async () => {
  const shared = texts();
  const [one, two] = [await process(shared), await process(shared)];
  const session = await begin(one.url);
  await post(one.url, session, { id: 3, method: 'resources/subscribe', params: { uri: 'scale://MR-03' } }).then((response) =>
    response.text(),
  );
  one.server.updated('scale://MR-03');
  await new Promise((resolve) => setTimeout(resolve, 60));
  const standing = await fetch(two.url, { headers: { ...session, accept: 'text/event-stream' } });
  const early = await until(standing, /resources\/updated/);
  expect(early.text.match(/scale:\/\/MR-03/g)).toHaveLength(1);
  await early.cut();
});

test('a task that one process runs is asked for, listed and cancelled in another', async () => {
  const shared = texts();
  const auth = () => ({ identity: 'keeper' });
  const [one, two] = [await process(shared, { auth }), await process(shared, { auth })];
  const session = await begin(one.url);
  const start = async () => {
    const response = await post(one.url, session, called('season', { task: {} }));
    return ((await response.json()) as { result: { task: { taskId: string } } }).result.task.taskId;
  };
  const [first, second] = [await start(), await start()];
  const ask = async (method: string, params: object) => {
    const body = await (await post(two.url, session, { id: 9, method, params })).text();
    return JSON.parse(/^data: (.+)$/m.exec(body)?.[1] ?? body) as { result?: Record<string, unknown>; error?: { message: string } };
  };
  expect((await ask('tasks/list', {})).result!.tasks).toMatchObject([{ taskId: first }, { taskId: second }]);
  const result = ask('tasks/result', { taskId: first });
  one.finish[0]!(40);
  expect((await result).result).toMatchObject({ content: [{ text: '40 kg' }] });
  expect((await ask('tasks/cancel', { taskId: second })).result).toMatchObject({ status: 'cancelled' });
  while ((await ask('tasks/get', { taskId: second })).result!.status !== 'cancelled') await new Promise((resolve) => setImmediate(resolve));
  expect((await ask('tasks/result', { taskId: second })).error!.message).toContain('cancelled');
});

test('limits are counted over all processes that share the store', async () => {
  const shared = texts();
  const store = textStore(shared);
  const [one, two] = [await process(shared, { store }, 2), await process(shared, { store }, 2)];
  const session = await begin(one.url);
  expect(await textOf(await post(one.url, session, called('who')))).toContain('desk');
  expect(await textOf(await post(two.url, session, called('who')))).toContain('desk');
  expect(await textOf(await post(two.url, session, called('who')))).toContain('Too many calls');
});
