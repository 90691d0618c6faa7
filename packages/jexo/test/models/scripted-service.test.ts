import { chatCompletions, connectAll, converse, defineServer, tool, type JsonSchema, type TalkEntry } from '../../src/index.js';
import { scriptedService, type ScriptedAnswer, type ScriptedRequest } from '../../src/testing.js';
import { listen } from '../support/listen.js';

const open: { close(): Promise<unknown> }[] = [];
afterEach(async () => {
  for (const each of open.splice(0)) await each.close();
});
async function model(script: Parameters<typeof scriptedService>[0], more: object = {}) {
  const requests: ScriptedRequest[] = [];
  const answer = (request: ScriptedRequest, count: number): ScriptedAnswer => {
    requests.push(request);
    return typeof script === 'function' ? script(request, count) : script[Math.min(count, script.length - 1)]!;
  };
  const service = await listen(scriptedService(answer));
  open.push(service);
  return { requests, driver: chatCompletions({ baseUrl: `${service.url}/v1`, model: 'small', ...more }) };
}
const tools = [{ name: 'lots.list', inputSchema: { type: 'object', properties: { 'lot id': { type: 'string' } } } as JsonSchema }];
const talk: TalkEntry[] = [{ role: 'user', text: 'List.' }];

test.each([true, false])('text, calls in parts, usage and names that were changed on the way; streamed: %s', async (stream) => {
  const parts: string[] = [];
  const { driver, requests } = await model(
    [
      {
        text: 'I look it up.',
        calls: [
          { name: 'lots_list', arguments: { lot_id: 'H-204' } },
          { id: 'b', name: 'lots_list', arguments: '{"lot_id":' },
        ],
        usage: { prompt_tokens: 12, completion_tokens: 7 },
      },
    ],
    { stream },
  );
  const move = await driver.next({ tools, talk, onText: (part) => parts.push(part) });
  expect(move).toEqual({
    text: 'I look it up.',
    usage: { inputTokens: 12, outputTokens: 7 },
    calls: [
      { id: 'call-1', name: 'lots.list', input: { 'lot id': 'H-204' } },
      { id: 'b', name: 'lots.list', input: {}, broken: expect.stringContaining('not a JSON object: {"lot_id":') },
    ],
  });
  expect(parts.join('')).toBe(stream ? 'I look it up.' : '');
  expect(parts.length > 2).toBe(stream);
  // And what it called is told to it as it wrote it.
  await driver.next({
    tools,
    talk: [...talk, { role: 'assistant', calls: [move.calls[0]!] }, { role: 'tool', id: 'call-1', name: 'lots.list', text: '2 lots' }],
  });
  expect(requests[1]!.messages[1]).toMatchObject({ tool_calls: [{ function: { name: 'lots_list', arguments: '{"lot_id":"H-204"}' } }] });
});

test.each([true, false])('a refusal is one, streamed: %s', async (stream) => {
  const { driver } = await model([{ refusal: 'I cannot help with that.' }], { stream });
  expect(await driver.next({ tools, talk })).toMatchObject({ refused: true, text: 'I cannot help with that.', calls: [] });
  const clients = await connectAll([defineServer({ name: 's', version: '1.0.0', offers: [] })]);
  open.push(clients);
  expect(await converse({ clients, model: driver, request: 'x' })).toMatchObject({ ended: 'refused', answer: 'I cannot help with that.' });
});

test('a busy service is asked again after what it says, and the conversation goes on', async () => {
  const times: number[] = [];
  const { driver } = await model((_, count) => {
    times.push(performance.now());
    return count === 0 ? { status: 429, headers: { 'retry-after': '1' }, error: { message: 'slow down' } } : { text: 'ok' };
  });
  expect(await driver.next({ tools, talk })).toMatchObject({ text: 'ok' });
  expect(times[1]! - times[0]!).toBeGreaterThan(950);
});

test('a context that is too long is shortened until it fits; what cannot be shortened ends the conversation with the reason', async () => {
  const long = defineServer({ name: 's', version: '1.0.0', offers: [tool('log', {}, () => 'x'.repeat(12_000))] });
  const clients = await connectAll([long]);
  open.push(clients);
  const sizes: number[] = [];
  const sizeOf = (request: ScriptedRequest) => JSON.stringify(request.messages).length;
  const { driver } = await model((request, count) => {
    sizes.push(sizeOf(request));
    if (count === 0) return { calls: [{ name: 'log', arguments: {} }] };
    return sizeOf(request) > 5000
      ? { status: 400, error: { message: "This model's maximum context length is 1000 tokens.", code: 'context_length_exceeded' } }
      : { text: 'Short enough.' };
  });
  const outcome = await converse({ clients, model: driver, request: 'Read the log.', approve: () => true });
  expect(outcome).toMatchObject({ ended: 'answered', answer: 'Short enough.' });
  expect(sizes.length).toBeGreaterThan(2);
  expect(outcome.steps.some(({ kind }) => kind === 'shortened')).toBe(true);
  const never = await model([{ status: 400, error: { message: 'context_length_exceeded' } }]);
  expect(await converse({ clients, model: never.driver, request: 'x' })).toMatchObject({
    ended: 'failed',
    error: { code: 'JEXO_MODEL' },
    answer: '',
  });
});

test('images follow the results they belong to, as the service takes them', async () => {
  const { driver, requests } = await model([{ text: 'ok' }], { images: true });
  expect(driver.takesImages).toBe(true);
  const image = { mimeType: 'image/png', data: 'AAAA' };
  await driver.next({
    tools: [],
    talk: [
      { role: 'user', text: 'Look.', images: [image] },
      {
        role: 'assistant',
        calls: [
          { id: 'a', name: 'x', input: {} },
          { id: 'b', name: 'x', input: {} },
        ],
      },
      { role: 'tool', id: 'a', name: 'x', text: '[image 1]', images: [image] },
      { role: 'tool', id: 'b', name: 'x', text: 'none' },
    ],
  });
  const part = { type: 'image_url', image_url: { url: 'data:image/png;base64,AAAA' } };
  expect(requests[0]!.messages.map(({ role }) => role)).toEqual(['user', 'assistant', 'tool', 'tool', 'user']);
  expect(requests[0]!.messages[0]).toMatchObject({ content: [{ type: 'text', text: 'Look.' }, part] });
  expect(requests[0]!.messages[4]).toMatchObject({ content: [{ type: 'text' }, part] });
});

test('a stream that is stopped in the middle stops at once', async () => {
  const { driver } = await model([{ text: 'a b c d e f g h', parts: 8, pauseMs: 200 }], { stream: true });
  const stop = new AbortController();
  const began = performance.now();
  await expect(driver.next({ tools, talk, onText: () => stop.abort(new Error('enough')) }, stop.signal)).rejects.toThrow('enough');
  expect(performance.now() - began).toBeLessThan(1200);
});

test('an answer of something else is told as such', async () => {
  const { driver } = await model([{ body: 'data: {"choices"', type: 'text/event-stream' }]);
  await expect(driver.next({ tools, talk })).rejects.toMatchObject({ code: 'JEXO_MODEL' });
});
