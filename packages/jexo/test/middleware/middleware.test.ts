import { readFileSync, statSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import fc from 'fast-check';
import {
  audit,
  cache,
  circuitBreaker,
  concurrency,
  connect,
  defineServer,
  JexoError,
  rateLimit,
  redact,
  resource,
  retry,
  serveHttp,
  timeout,
  tool,
  verifyAudit,
  type Client,
  type Middleware,
  type Offer,
} from '../../src/index.js';
import { freshFolder } from '../support/command-line.js';

const open: (() => Promise<unknown>)[] = [];
afterEach(async () => {
  for (const close of open.splice(0).reverse()) await close();
});
async function serve(middleware: readonly Middleware[], ...offers: Offer[]): Promise<Client> {
  const server = defineServer({ name: 'x', version: '1.0.0', offers, middleware });
  const client = await connect(server, { onFault: () => undefined });
  open.push(() => client.close().then(() => server.close()));
  return client;
}
const textOf = (result: { content: readonly unknown[] }) => (result.content[0] as { text: string }).text;
const reads = { annotations: { readOnlyHint: true } };
const until = async (check: () => boolean) => {
  for (let tries = 0; tries < 400 && !check(); tries++) await new Promise((resolve) => setTimeout(resolve, 5));
  expect(check()).toBe(true);
};

test('timeout gives a call up, and its handler hears of it; a caller who cancels is heard too', async () => {
  const heard: string[] = [];
  let started = 0;
  const wait = (name: string) =>
    tool(
      name,
      { description: 'Waits.' },
      (_input, { signal }) =>
        new Promise<string>((resolve) => ++started && signal.addEventListener('abort', () => (heard.push(name), resolve('late')))),
    );
  const client = await serve(
    [timeout('50 ms', { only: ['slow', 'quick'] })],
    wait('slow'),
    wait('other'),
    tool('quick', { description: 'Quick.' }, () => 'done'),
  );
  const late = await client.call('slow');
  expect([late.isError, textOf(late)]).toEqual([true, expect.stringContaining('slow took longer than 0.05 s, and was given up.')]);
  expect(heard).toEqual(['slow']);
  expect(textOf(await client.call('quick'))).toBe('done');
  const controller = new AbortController();
  const cancelled = client.call('slow', {}, { signal: controller.signal });
  await until(() => started === 2);
  controller.abort();
  await expect(cancelled).rejects.toThrow();
  await until(() => heard.length === 2);
  const unlimited = client.call('other', {}, { signal: AbortSignal.timeout(150) });
  await expect(unlimited).rejects.toThrow();
  await until(() => heard.includes('other'));
  for (const wrong of ['soon', '-1 s', 0, '5 years'])
    expect(() => timeout(wrong)).toThrow(expect.objectContaining({ code: 'JEXO_DEFINITION' }));
});

test('rateLimit counts callers apart, lets calls through again in time, and says when', async () => {
  const limited = rateLimit({ calls: 3, per: '300 ms', except: ['free'] });
  const offers = [tool('a', { description: 'A.' }, () => 'ok'), tool('free', { description: 'Free.' }, () => 'ok')];
  const server = defineServer({ name: 'x', version: '1.0.0', offers, middleware: [limited] });
  const [one, other] = [await connect(server), await connect(server)];
  open.push(() => Promise.all([one.close(), other.close()]));
  const calls = async (client: Client, count: number) =>
    (await Promise.all(Array.from({ length: count }, () => client.call('a')))).filter(({ isError }) => !isError).length;
  expect(await calls(one, 10)).toBe(3);
  expect(await calls(other, 2)).toBe(2);
  expect(textOf(await one.call('a'))).toMatch(/^Too many calls: a was not run\. Try again in 1 second\./);
  expect((await one.call('free')).isError).toBeUndefined();
  await new Promise((resolve) => setTimeout(resolve, 350));
  expect(await calls(one, 10)).toBe(3);
  expect(() => rateLimit({ calls: 0 })).toThrow('calls must be a number from 1');
});

test('however calls come, no more than the number are let through in any span', async () => {
  await fc.assert(
    fc.asyncProperty(fc.integer({ min: 1, max: 5 }), fc.array(fc.integer({ min: 0, max: 60 }), { maxLength: 40 }), async (calls, gaps) => {
      const limited = rateLimit({ calls, per: 100 });
      const real = Date.now;
      let now = 1_000_000;
      Date.now = () => now;
      try {
        const passed: number[] = [];
        const request = {
          offer: tool('a', { description: 'A.' }, () => 1),
          input: {},
          call: { caller: { identity: 'one' }, session: { id: '1' } },
        } as never;
        for (const gap of gaps) {
          now += gap;
          try {
            await limited(request, () => passed.push(now));
          } catch {
            // refused
          }
        }
        // A burst may use what was saved up: at most twice the number in a span, and the rate holds over time.
        for (const at of passed) expect(passed.filter((other) => other >= at && other < at + 100).length).toBeLessThanOrEqual(2 * calls);
        if (passed.length > 0) expect(passed.length).toBeLessThanOrEqual(calls + ((passed.at(-1)! - passed[0]!) / 100) * calls + 1);
      } finally {
        Date.now = real;
      }
    }),
    { numRuns: 100 },
  );
});

test('concurrency lets so many run, keeps the others in order, and drops who cancels', async () => {
  const waiting: (() => void)[] = [];
  let most = 0;
  let running = 0;
  const slow = tool('slow', { description: 'Slow.', input: { type: 'object', properties: { n: { type: 'integer' } } } }, async ({ n }) => {
    most = Math.max(most, ++running);
    await new Promise<void>((resolve) => waiting.push(resolve));
    running--;
    return String(n);
  });
  const client = await serve([concurrency({ calls: 2, queue: 2 })], slow);
  const controller = new AbortController();
  const calls = [1, 2].map((n) => client.call('slow', { n }));
  await until(() => waiting.length === 2);
  const third = client.call('slow', { n: 3 }, { signal: controller.signal });
  const fourth = client.call('slow', { n: 4 });
  await new Promise((resolve) => setTimeout(resolve, 20));
  expect(textOf(await client.call('slow', { n: 5 }))).toContain('Too many calls wait for slow');
  controller.abort();
  await expect(third).rejects.toThrow();
  waiting.splice(0, 1)[0]!();
  expect(textOf(await calls[0]!)).toBe('1');
  await until(() => waiting.length === 2);
  for (const go of waiting) go();
  expect([textOf(await calls[1]!), textOf(await fourth), most]).toEqual(['2', '4', 2]);
});

test('retry repeats what may pass and can be repeated, and nothing else', async () => {
  const counts: Record<string, number> = {};
  const failing = (name: string, code: string, times: number, more = {}) =>
    tool(name, { description: 'Fails.', ...more }, () => {
      counts[name] = (counts[name] ?? 0) + 1;
      if (counts[name] <= times) throw Object.assign(new Error(`${name} failed`), { code });
      return 'ok';
    });
  const client = await serve(
    [retry({ times: 2, afterMs: 1 })],
    failing('read', 'ECONNRESET', 2, reads),
    failing('idempotent', 'ECONNRESET', 1, { annotations: { idempotentHint: true } }),
    failing('writes', 'ECONNRESET', 1),
    failing('wrong', 'EOTHER', 1, reads),
    failing('always', 'ECONNRESET', 99, reads),
  );
  for (const name of ['read', 'idempotent', 'writes', 'wrong', 'always']) await client.call(name);
  expect(counts).toEqual({ read: 3, idempotent: 2, writes: 1, wrong: 1, always: 3 });
});

test('cache answers the same question once, for each caller, until it is cleared or old; failures are not kept', async () => {
  let count = 0;
  const counted = (name: string, more = {}) =>
    tool(
      name,
      { description: 'Counts.', input: { type: 'object', properties: { a: {}, b: {} } }, tags: ['registry'], ...reads, ...more },
      async ({ a }) => {
        const mine = ++count;
        await new Promise((resolve) => setTimeout(resolve, 10));
        if (a === 'fail') throw new JexoError('JEXO_REST', 'It failed.');
        return `answer ${mine}`;
      },
    );
  const kept = cache({ ttl: '200 ms' });
  const server = defineServer({
    name: 'x',
    version: '1.0.0',
    offers: [counted('read'), counted('write', { annotations: { readOnlyHint: false } })],
    middleware: [kept],
  });
  const [one, other] = [await connect(server), await connect(server)];
  open.push(() => Promise.all([one.close(), other.close()]));
  const answers = await Promise.all([
    one.call('read', { a: 1, b: { x: 1, y: 2 } }),
    one.call('read', { b: { y: 2, x: 1 }, a: 1 }),
    one.call('read', { a: 2 }),
  ]);
  expect([answers[0], textOf(answers[1]!) === textOf(answers[2]!), count]).toEqual([answers[1], false, 2]);
  await other.call('read', { a: 1, b: { x: 1, y: 2 } });
  expect(count).toBe(3);
  await one.call('write', {});
  await one.call('write', {});
  expect(count).toBe(5);
  await one.call('read', { a: 'fail' });
  await one.call('read', { a: 'fail' });
  expect(count).toBe(7);
  kept.clear('other');
  await one.call('read', { a: 2 });
  expect(count).toBe(7);
  kept.clear('registry');
  await one.call('read', { a: 2 });
  expect(count).toBe(8);
  await new Promise((resolve) => setTimeout(resolve, 250));
  await one.call('read', { a: 2 });
  expect(count).toBe(9);
});

test('redact takes fields and patterns out of every form of an answer', async () => {
  const keeper = { name: 'keeper', Phone: '555-1234', deep: [{ email: 'a@b.example', note: 'call 555-9999' }] };
  const client = await serve(
    [redact({ fields: ['phone', 'email'], patterns: [/\d{3}-\d{4}/] })],
    tool('structured', { description: 'S.', output: { type: 'object' } }, () => keeper),
    tool('plain', { description: 'P.' }, () => keeper),
    tool('text', { description: 'T.' }, () => 'call 555-1234 or 555-9999'),
    resource('x://keeper', { name: 'keeper', mimeType: 'application/json' }, () => JSON.stringify(keeper)),
  );
  const all = JSON.stringify([
    await client.call('structured'),
    await client.call('plain'),
    await client.call('text'),
    await client.read('x://keeper'),
  ]);
  expect(all).not.toMatch(/555|a@b/);
  expect((await client.call('structured')).structuredContent).toEqual({
    name: 'keeper',
    Phone: '***',
    deep: [{ email: '***', note: 'call ***' }],
  });
});

test('circuitBreaker stops calling what keeps failing, tries again, and closes when it works', async () => {
  let works = false;
  let calls = 0;
  const shaky = tool('shaky', { description: 'Shaky.', input: { type: 'object', properties: { n: { type: 'integer' } } } }, () => {
    calls++;
    if (!works) throw new Error('away');
    return 'here';
  });
  const client = await serve([circuitBreaker({ failures: 3, reset: '100 ms' })], shaky);
  for (let call = 0; call < 3; call++) await client.call('shaky');
  const refused = await client.call('shaky');
  expect([calls, textOf(refused)]).toEqual([
    3,
    expect.stringContaining('shaky has failed 3 times in a row, and is not called now. Try again in 1 s.'),
  ]);
  await new Promise((resolve) => setTimeout(resolve, 120));
  await client.call('shaky');
  await client.call('shaky');
  expect(calls).toBe(4);
  works = true;
  await new Promise((resolve) => setTimeout(resolve, 120));
  expect(textOf(await client.call('shaky'))).toBe('here');
  expect(textOf(await client.call('shaky'))).toBe('here');
});

describe('audit', () => {
  const offers = [
    tool('good', { description: 'Good.', input: { type: 'object', properties: { pin: { type: 'string' } } } }, () => 'ok'),
    tool('bad', { description: 'Bad.' }, () => {
      throw new JexoError('JEXO_REST', 'The words of others.');
    }),
    resource('x://y', { name: 'y' }, () => 'z'),
  ];
  test('writes who called what with which outcome, and goes on where it was; nothing of inputs unless they are wanted', async () => {
    const file = join(freshFolder('audit'), 'calls.jsonl');
    const server = defineServer({ name: 'x', version: '1.0.0', offers, middleware: [audit(file)] });
    const service = await serveHttp(server, { auth: () => ({ identity: 'keeper' }) });
    const client = await connect(service.url);
    await client.call('good', { pin: '1234-secret' });
    await client.call('bad');
    await client.read('x://y');
    await client.close();
    await service.close();
    const lines = readFileSync(file, 'utf8')
      .trim()
      .split('\n')
      .map((line) => JSON.parse(line) as Record<string, unknown>);
    expect(lines.map(({ number, caller, kind, offer, outcome, code }) => [number, caller, kind, offer, outcome, code])).toEqual([
      [1, 'keeper', 'tool', 'good', 'ok', undefined],
      [2, 'keeper', 'tool', 'bad', 'failed', 'JEXO_REST'],
      [3, 'keeper', 'resource', 'y', 'ok', undefined],
    ]);
    expect(readFileSync(file, 'utf8')).not.toMatch(/1234-secret|words of others/);
    expect(statSync(file).mode & 0o777).toBe(0o600);
    expect(verifyAudit(file)).toBeUndefined();
    const second = await serve([audit(file, { inputs: true })], ...offers);
    await second.call('good', { pin: '1' });
    expect([verifyAudit(file), JSON.parse(readFileSync(file, 'utf8').trim().split('\n').at(-1)!)]).toMatchObject([
      undefined,
      { number: 4, input: { pin: '1' } },
    ]);
  });

  test('shows a line that was changed, removed, added or cut', async () => {
    const file = join(freshFolder('audit'), 'calls.jsonl');
    const client = await serve([audit(file)], ...offers);
    for (let call = 0; call < 5; call++) await client.call('good');
    const lines = readFileSync(file, 'utf8').trim().split('\n');
    const check = (changed: readonly string[]) => {
      writeFileSync(file, `${changed.join('\n')}\n`);
      return verifyAudit(file);
    };
    expect(check(lines)).toBeUndefined();
    expect(check(lines.with(2, lines[2]!.replace('good', 'bad!')))).toEqual({ line: 3, why: 'it was changed' });
    expect(check(lines.toSpliced(2, 1))).toEqual({ line: 3, why: expect.stringContaining('a line before it is missing') });
    expect(check([...lines.slice(0, 2), lines[1]!, ...lines.slice(2)])).toMatchObject({ line: 3 });
    expect(check(lines.slice(1))).toMatchObject({ line: 1 });
    expect(check([...lines.slice(0, 4), lines[4]!.slice(0, 20)])).toEqual({ line: 5, why: 'it is no JSON' });
    const torn = await serve([audit(file)], ...offers);
    const failed = await torn.call('good');
    expect([failed.isError, textOf(failed)]).toEqual([true, expect.stringContaining('The last line of')]);
  });

  test('a call that could not be recorded fails, unless its owner says otherwise', async () => {
    const folder = freshFolder('audit');
    const strict = await serve([audit(join(folder, 'gone', 'calls.jsonl'))], ...offers);
    expect(textOf(await strict.call('good'))).toContain('The call could not be recorded');
    const failed: Error[] = [];
    const lenient = await serve([audit(join(folder, 'gone', 'calls.jsonl'), { onFailed: (error) => failed.push(error) })], ...offers);
    expect(textOf(await lenient.call('good'))).toBe('ok');
    expect(failed).toHaveLength(1);
  });
});
